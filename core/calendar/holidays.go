package calendar

import (
	"fmt"
	"slices"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/teambition/rrule-go"
)

// Holidays are the dates on which the events of an iCalendar file (RFC 5545) lie,
// as Spec.Except has them. An event that recurs is followed for as long as a rule
// is.
func Holidays(text string) (list []string, err error) {
	cal, err := ics.ParseCalendar(strings.NewReader(text))
	if err != nil {
		return nil, fmt.Errorf("this is no iCalendar file: %w", err)
	}
	for _, event := range cal.Events() {
		start, err := event.GetAllDayStartAt()
		last := start
		if err == nil {
			if end, noEnd := event.GetAllDayEndAt(); noEnd == nil && end.After(start) {
				last = end.AddDate(0, 0, -1) // DTEND is not included (3.6.1)
			}
		} else {
			if start, err = event.GetStartAt(); err != nil {
				return nil, fmt.Errorf("an event has no DTSTART: %w", err)
			}
			if last, err = event.GetEndAt(); err != nil || last.Before(start) {
				last = start
			}
		}
		starts := []time.Time{start}
		if rule := event.GetProperty(ics.ComponentPropertyRrule); rule != nil {
			option, err := rrule.StrToROption(rule.Value)
			if err != nil {
				return nil, fmt.Errorf("the RRULE %q of an event: %w", rule.Value, err)
			}
			option.Dtstart = start.UTC()
			r, err := rrule.NewRRule(*option)
			if err != nil {
				return nil, fmt.Errorf("the RRULE %q of an event: %w", rule.Value, err)
			}
			starts = r.Between(start.UTC(), start.UTC().AddDate(yearsOfRecurrence, 0, 0), true)
		}
		for _, at := range starts {
			first, end := at.Format(time.DateOnly), at.Add(last.Sub(start)).Format(time.DateOnly)
			if first != end {
				first += ".." + end
			}
			list = append(list, first)
		}
	}
	slices.Sort(list)
	return slices.Compact(list), nil
}

package calendar

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Spec is a time rule in parts: exactly one of Every, Cron, RRule and At says
// when, the others narrow it down, move it or say what its windows are.
type Spec struct {
	Every time.Duration // a whole number of seconds
	Cron  string        // five fields
	RRule string        // RFC 5545, 3.3.10, from FREQ=DAILY up
	At    []string      // moments, RFC 3339, or on the wall clock as in 2026-03-28T06:00

	Between string   // times of day as in 06:00..08:00, both included; it may go over midnight
	On      []string // days of the week, as in mon, or mon-fri; of the day on which Between begins
	From    string   // a date, from its first moment, or a moment
	Until   string   // a date, to its last moment, or a moment, included
	Except  []string // dates, or ranges as in 2026-07-01..2026-07-31, both included

	Delay  time.Duration // from the moment of the rule until it is due
	Covers Covers

	Zone *time.Location
}

// Covers says what the window of a due moment is. The zero Covers is what lies
// between the moment of the rule before it and its own.
type Covers struct {
	Unit   string // day, week (from Monday) or month: the last whole one
	Days   int    // or a length: days on the wall clock,
	Length time.Duration
	// and a length that ends that long after the moment of the rule, or before it
	// if negative.
	Ends time.Duration
}

// New makes a rule. An error says what is wrong, and behind a semicolon what to
// write instead. A rule that can never be due is an error.
func New(s Spec) (Rule, error) {
	r := Rule{zone: s.Zone, delay: s.Delay, covers: s.Covers, text: s.text()}
	span, err := parseSpan(s.Between)
	if err != nil {
		return r, err
	}
	if r.wall, err = s.wallClock(span); err != nil {
		return r, err
	}
	f := filtered{base: r.wall, span: span, from: -endOfTime, until: endOfTime}
	if f.days, err = parseDays(s.On); err != nil {
		return r, err
	}
	if s.From != "" {
		if f.from, err = s.wall(s.From, 0); err != nil {
			return r, fmt.Errorf("from: %w", err)
		}
	}
	if s.Until != "" {
		if f.until, err = s.wall(s.Until, day-1); err != nil {
			return r, fmt.Errorf("until: %w", err)
		}
	}
	if f.until < f.from {
		return r, fmt.Errorf("until %s lies before from %s; swap the two", s.Until, s.From)
	}
	if f.except, err = parseExcept(s.Except); err != nil {
		return r, err
	}
	if span != nil || f.days != 0 || f.except != nil || s.From != "" || s.Until != "" {
		r.wall = f
	}
	if err := s.Covers.check(); err != nil {
		return r, err
	}
	if w, ok := r.wall.after(max(f.from-1, beginOfSearch)); !ok || w > f.until {
		return r, fmt.Errorf("%s is never due; take out what narrows it down too far", s.text())
	}
	return r, nil
}

const (
	endOfTime     = 1 << 40    // on the wall, farther than any zone reaches
	beginOfSearch = -631152000 // 1950-01-01T00:00 on the wall
)

// text is the rule as it was written, in a few words.
func (s Spec) text() string {
	var words []string
	add := func(word, value string) {
		if value != "" {
			words = append(words, word+" "+value)
		}
	}
	if s.Every > 0 {
		add("every", lengthText(s.Every))
	}
	add("cron", s.Cron)
	add("rrule", s.RRule)
	add("at", strings.Join(s.At, ", "))
	add("between", strings.Replace(s.Between, "..", " and ", 1))
	add("on", strings.Join(s.On, ", "))
	add("from", s.From)
	add("until", s.Until)
	if len(s.Except) > 0 {
		words = append(words, fmt.Sprintf("except %d days", len(s.Except)))
	}
	return strings.Join(words, " ")
}

func lengthText(d time.Duration) string {
	if d%(24*time.Hour) == 0 {
		return fmt.Sprintf("%dd", d/(24*time.Hour))
	}
	text := d.String()
	if strings.HasSuffix(text, "m0s") {
		text = text[:len(text)-2]
	}
	if strings.HasSuffix(text, "h0m") {
		text = text[:len(text)-2]
	}
	return text
}

func (s Spec) wallClock(span *span) (wallClock, error) {
	said := 0
	for _, one := range []bool{s.Every != 0, s.Cron != "", s.RRule != "", s.At != nil} {
		if one {
			said++
		}
	}
	if said != 1 {
		return nil, fmt.Errorf("a time rule says exactly one of every, cron, rrule and at; write one")
	}
	switch {
	case s.Cron != "":
		return parseCron(s.Cron)
	case s.RRule != "":
		from := int64(mondayEpoch)
		if s.From != "" {
			var err error
			if from, err = s.wall(s.From, 0); err != nil {
				return nil, fmt.Errorf("from: %w", err)
			}
		}
		return parseRRule(s.RRule, from)
	case s.At != nil:
		list := make(moments, 0, len(s.At))
		for _, text := range s.At {
			w, err := s.wall(text, 0)
			if err != nil {
				return nil, fmt.Errorf("at: %w", err)
			}
			list = append(list, w)
		}
		slices.Sort(list)
		return slices.Compact(list), nil
	}
	if s.Every < time.Second || s.Every%time.Second != 0 {
		return nil, fmt.Errorf("a step of %v is not a whole number of seconds; write 1s or more", s.Every)
	}
	seconds := int64(s.Every / time.Second)
	if span == nil {
		return steps{seconds: seconds}, nil
	}
	if seconds > day {
		return nil, fmt.Errorf("every %s does not come within the times of one day; take between out", lengthText(s.Every))
	}
	return spanSteps{seconds: seconds, span: *span}, nil
}

// wall reads a date or a moment as a time on the wall; of a date, that many
// seconds after its beginning.
func (s Spec) wall(text string, ofDate int64) (int64, error) {
	if t, err := time.Parse(time.DateOnly, text); err == nil {
		return t.Unix() + ofDate, nil
	}
	for _, layout := range []string{"2006-01-02T15:04", "2006-01-02T15:04:05", "2006-01-02 15:04"} {
		if t, err := time.Parse(layout, text); err == nil {
			return t.Unix(), nil
		}
	}
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return 0, fmt.Errorf("%q is neither a date nor a moment; write it as 2026-03-28, 2026-03-28T06:00 or 2026-03-28T06:00:00+01:00", text)
	}
	_, offset := t.In(s.Zone).Zone()
	return t.Unix() + int64(offset), nil
}

func (c Covers) check() error {
	switch {
	case c.Unit != "" && !slices.Contains([]string{"day", "week", "month"}, c.Unit):
		return fmt.Errorf("covers %q is no length that is known; write day, week, month or {length: 1d}", c.Unit)
	case c.Unit == "" && c.Ends != 0 && c.Days == 0 && c.Length == 0:
		return fmt.Errorf("covers says where a window ends and not how long it is; add length")
	case c.Days < 0 || c.Length < 0:
		return fmt.Errorf("covers has a length under nothing; write it as 1d, and where it ends as ends: -2h")
	}
	return nil
}

// window is the window of a moment of the rule, in its zone.
func (c Covers) window(tick time.Time) Window {
	zone := tick.Location()
	switch c.Unit {
	case "day":
		end := time.Date(tick.Year(), tick.Month(), tick.Day(), 0, 0, 0, 0, zone)
		return Window{Start: time.Date(tick.Year(), tick.Month(), tick.Day()-1, 0, 0, 0, 0, zone), End: end}
	case "week":
		monday := tick.Day() - int(tick.Weekday()+6)%7
		return Window{Start: time.Date(tick.Year(), tick.Month(), monday-7, 0, 0, 0, 0, zone), End: time.Date(tick.Year(), tick.Month(), monday, 0, 0, 0, 0, zone)}
	case "month":
		return Window{Start: time.Date(tick.Year(), tick.Month()-1, 1, 0, 0, 0, 0, zone), End: time.Date(tick.Year(), tick.Month(), 1, 0, 0, 0, 0, zone)}
	}
	end := tick.Add(c.Ends)
	return Window{Start: end.AddDate(0, 0, -c.Days).Add(-c.Length), End: end}
}

// isDefault tells whether windows lie between the moments of the rule.
func (c Covers) isDefault() bool { return c == Covers{} }

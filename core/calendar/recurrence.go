package calendar

import (
	"fmt"
	"strings"
	"time"

	"github.com/teambition/rrule-go"
)

// mostOccurrences bounds how many times a recurrence rule may come in the years
// that are looked at.
const mostOccurrences = 200_000

// yearsOfRecurrence is how long a recurrence rule is followed from its beginning.
const yearsOfRecurrence = 75

// parseRRule reads a recurrence rule of RFC 5545 (3.3.10) that begins at that wall
// time. Its occurrences are worked out once: each of its years takes the library
// a walk from its beginning.
func parseRRule(text string, from int64) (wallClock, error) {
	const fix = "; write it as FREQ=MONTHLY;BYDAY=-1FR;BYHOUR=6;BYMINUTE=30"
	option, err := rrule.StrToROption(strings.TrimPrefix(text, "RRULE:"))
	if err != nil {
		return nil, fmt.Errorf("rrule %q: %w%s", text, err, fix)
	}
	if option.Freq > rrule.DAILY {
		return nil, fmt.Errorf("rrule %q repeats within a day; write FREQ=DAILY with BYHOUR and BYMINUTE, or every or cron", text)
	}
	if !strings.Contains(text, "BYSECOND") {
		option.Bysecond = []int{0}
	}
	option.Dtstart = time.Unix(from, 0).UTC()
	rule, err := rrule.NewRRule(*option)
	if err != nil {
		return nil, fmt.Errorf("rrule %q: %w%s", text, err, fix)
	}
	end := option.Dtstart.AddDate(yearsOfRecurrence, 0, 0)
	var list moments
	next := rule.Iterator()
	for at, ok := next(); ok && at.Before(end); at, ok = next() {
		if len(list) == mostOccurrences {
			return nil, fmt.Errorf("rrule %q comes more than %d times in %d years; write every or cron", text, mostOccurrences, yearsOfRecurrence)
		}
		list = append(list, at.Unix())
	}
	if list == nil {
		return nil, fmt.Errorf("rrule %q is never due; take out what narrows it down too far", text)
	}
	return list, nil
}

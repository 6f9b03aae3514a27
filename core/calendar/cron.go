package calendar

import (
	"fmt"
	"math/bits"
	"strconv"
	"strings"
	"time"
)

// cron is the five fields of POSIX crontab, each as a set of bits.
type cron struct {
	minutes, hours, days, months, weekdays uint64
	anyDay, anyWeekday, anyHour            bool
}

type field struct {
	name     string
	min, max int
	names    []string // the name of min, of min+1, …
}

var cronFields = [5]field{
	{name: "minute", min: 0, max: 59},
	{name: "hour", min: 0, max: 23},
	{name: "day of the month", min: 1, max: 31},
	{name: "month", min: 1, max: 12, names: []string{"jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"}},
	{name: "day of the week", min: 0, max: 7, names: []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}},
}

// longestMonth is how many days each month can have.
var longestMonth = [13]int{0, 31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31}

// parseCron reads the five fields of POSIX crontab (IEEE Std 1003.1, crontab,
// Input Files): minute, hour, day of the month, month, day of the week, each
// `*`, a number, a range or a list of those; and beyond POSIX a step after a
// slash (`*/10`, `6-18/2`), the English names of months and weekdays in three
// letters, and 7 for Sunday. As POSIX says, a day matches if either the day of
// the month or the day of the week does, when both are restricted.
//
// An expression that can never be due (30 February) is an error.
func parseCron(text string) (cron, error) {
	parts := strings.Fields(text)
	if len(parts) != 5 {
		return cron{}, fmt.Errorf("%q has %d fields; write the five fields minute, hour, day of the month, month and day of the week%s",
			text, len(parts), sixFieldHint(parts))
	}
	var sets [5]uint64
	for i, part := range parts {
		set, err := cronFields[i].parse(part)
		if err != nil {
			return cron{}, err
		}
		sets[i] = set
	}
	if sets[4]&(1<<7) != 0 {
		sets[4] = sets[4]&^(1<<7) | 1
	}
	c := cron{minutes: sets[0], hours: sets[1], days: sets[2], months: sets[3], weekdays: sets[4],
		anyHour: parts[1] == "*", anyDay: parts[2] == "*", anyWeekday: parts[4] == "*"}
	if c.anyWeekday && !c.hasDate() {
		return cron{}, fmt.Errorf("%q is never due: no month that it names has a day that it names", text)
	}
	return c, nil
}

func sixFieldHint(parts []string) string {
	if len(parts) == 6 {
		return fmt.Sprintf("; without seconds this is %q", strings.Join(parts[1:], " "))
	}
	return ""
}

func (f field) parse(text string) (uint64, error) {
	var set uint64
	for item := range strings.SplitSeq(text, ",") {
		span, stepText, stepped := strings.Cut(item, "/")
		step := 1
		if stepped {
			n, err := strconv.Atoi(stepText)
			if err != nil || n < 1 || n > f.max {
				return 0, fmt.Errorf("the step in the %s field %q is %q; write a number from 1 to %d", f.name, text, stepText, f.max)
			}
			step = n
		}
		low, high := f.min, f.max
		if span == "*" {
			if f.max == 7 { // both 0 and 7 are Sunday: count it once
				high = 6
			}
		} else {
			first, last, ranged := strings.Cut(span, "-")
			var err error
			if low, err = f.value(first, text); err != nil {
				return 0, err
			}
			high = low
			if ranged {
				if high, err = f.value(last, text); err != nil {
					return 0, err
				}
			} else if stepped {
				return 0, fmt.Errorf("the %s field %q has a step after a single value; write a range before the slash, as in %d-%d/%d", f.name, text, low, f.max, step)
			}
			if high < low {
				return 0, fmt.Errorf("the range %s in the %s field ends before it starts; write it as two ranges joined by a comma", span, f.name)
			}
		}
		for v := low; v <= high; v += step {
			set |= 1 << v
		}
	}
	return set, nil
}

func (f field) value(text, whole string) (int, error) {
	for i, name := range f.names {
		if strings.EqualFold(text, name) {
			return f.min + i, nil
		}
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < f.min || n > f.max {
		also := ""
		if f.names != nil {
			also = fmt.Sprintf(", or a name from %s to %s", f.names[0], f.names[len(f.names)-1])
		}
		return 0, fmt.Errorf("the %s field %q has the value %q; write a number from %d to %d%s", f.name, whole, text, f.min, f.max, also)
	}
	return n, nil
}

// hasDate tells whether some month of c has some day of c.
func (c cron) hasDate() bool {
	first := bits.TrailingZeros64(c.days)
	for m := 1; m <= 12; m++ {
		if c.months&(1<<m) != 0 && first <= longestMonth[m] {
			return true
		}
	}
	return false
}

// repeats is true if the rule leaves the hour open, so that it repeats within
// every hour.
func (c cron) repeats() bool { return c.anyHour }

func (c cron) matches(date time.Time) bool {
	if c.months&(1<<int(date.Month())) == 0 {
		return false
	}
	byDay := c.days&(1<<date.Day()) != 0
	byWeekday := c.weekdays&(1<<int(date.Weekday())) != 0
	switch {
	case c.anyDay:
		return byWeekday
	case c.anyWeekday:
		return byDay
	}
	return byDay || byWeekday
}

// searchDays bounds the walk over days: 29 February on one weekday comes again
// after at most forty years.
const searchDays = 41 * 366

func (c cron) after(w int64) (int64, bool) {
	w++
	if rest := floorMod(w, 60); rest != 0 {
		w += 60 - rest
	}
	date, minute := floorDiv(w, day), int(floorMod(w, day)/60)
	for range searchDays {
		when := time.Unix(date*day, 0).UTC()
		if c.months&(1<<int(when.Month())) == 0 {
			date, minute = time.Date(when.Year(), when.Month()+1, 1, 0, 0, 0, 0, time.UTC).Unix()/day, 0
			continue
		}
		if c.matches(when) {
			if m, ok := c.minuteFrom(minute); ok {
				return date*day + int64(m)*60, true
			}
		}
		date, minute = date+1, 0
	}
	return 0, false
}

func (c cron) before(w int64) (int64, bool) {
	w--
	date, minute := floorDiv(w, day), int(floorMod(w, day)/60)
	for range searchDays {
		when := time.Unix(date*day, 0).UTC()
		if c.months&(1<<int(when.Month())) == 0 {
			date, minute = time.Date(when.Year(), when.Month(), 1, 0, 0, 0, 0, time.UTC).Unix()/day-1, 24*60-1
			continue
		}
		if c.matches(when) {
			if m, ok := c.minuteUntil(minute); ok {
				return date*day + int64(m)*60, true
			}
		}
		date, minute = date-1, 24*60-1
	}
	return 0, false
}

// minuteFrom is the first minute of the day that c names, from m on.
func (c cron) minuteFrom(m int) (int, bool) {
	hour, minute := m/60, m%60
	if c.hours&(1<<hour) != 0 {
		if rest := c.minutes >> minute; rest != 0 {
			return hour*60 + minute + bits.TrailingZeros64(rest), true
		}
	}
	rest := c.hours >> (hour + 1) << (hour + 1)
	if rest == 0 {
		return 0, false
	}
	return bits.TrailingZeros64(rest)*60 + bits.TrailingZeros64(c.minutes), true
}

// minuteUntil is the last minute of the day that c names, up to and with m.
func (c cron) minuteUntil(m int) (int, bool) {
	hour, minute := m/60, m%60
	if c.hours&(1<<hour) != 0 {
		if rest := c.minutes & (1<<(minute+1) - 1); rest != 0 {
			return hour*60 + bits.Len64(rest) - 1, true
		}
	}
	rest := c.hours & (1<<hour - 1)
	if rest == 0 {
		return 0, false
	}
	return (bits.Len64(rest)-1)*60 + bits.Len64(c.minutes) - 1, true
}

func floorMod(a, b int64) int64 { return a - floorDiv(a, b)*b }

package calendar

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// span is times of day on the wall, both ends included, in seconds. One that goes
// over midnight belongs to the day on which it begins.
type span struct{ from, length int64 }

func parseSpan(text string) (*span, error) {
	if text == "" {
		return nil, nil
	}
	first, last, ok := strings.Cut(text, "..")
	from, err1 := timeOfDay(first)
	to, err2 := timeOfDay(last)
	if !ok || err1 != nil || err2 != nil {
		return nil, fmt.Errorf("between %q is not two times of day; write it as 06:00..08:00", text)
	}
	return &span{from: from, length: floorMod(to-from, day)}, nil
}

func timeOfDay(text string) (int64, error) {
	for _, layout := range []string{"15:04", "15:04:05"} {
		if t, err := time.Parse(layout, strings.TrimSpace(text)); err == nil {
			return int64(t.Hour()*3600 + t.Minute()*60 + t.Second()), nil
		}
	}
	return 0, fmt.Errorf("%q is no time of day", text)
}

// of is the day, counted from 1970, to which a wall time belongs, and how far it
// is into it. A nil span has days from midnight to midnight.
func (s *span) of(w int64) (date, into int64) {
	from := int64(0)
	if s != nil {
		from = s.from
	}
	return floorDiv(w-from, day), floorMod(w-from, day)
}

// begin is where a day of the span begins.
func (s *span) begin(date int64) int64 {
	if s == nil {
		return date * day
	}
	return date*day + s.from
}

// end is the last moment of a day of the span.
func (s *span) end(date int64) int64 {
	if s == nil {
		return date*day + day - 1
	}
	return date*day + s.from + s.length
}

// spanSteps is due at the beginning of a span of each day, and each step after,
// while the span lasts.
type spanSteps struct {
	seconds int64
	span    span
}

func (s spanSteps) after(w int64) (int64, bool) {
	date, into := s.span.of(w)
	if next := (into/s.seconds + 1) * s.seconds; next <= s.span.length {
		return s.span.begin(date) + next, true
	}
	return s.span.begin(date + 1), true
}

func (s spanSteps) before(w int64) (int64, bool) {
	date, into := s.span.of(w - 1)
	return s.span.begin(date) + min(into, s.span.length)/s.seconds*s.seconds, true
}

func (s spanSteps) repeats() bool { return s.seconds <= 60*60 }

// filtered is a rule of which only some times count.
type filtered struct {
	base        wallClock
	span        *span
	days        byte // of the week, a bit each from Sunday; 0 is all
	from, until int64
	except      []dates // sorted, none touching another
}

// dates are days counted from 1970, both ends included.
type dates struct{ first, last int64 }

func (f filtered) keepsDay(date int64) bool {
	if f.days != 0 && f.days&(1<<floorMod(date+4, 7)) == 0 { // 1970-01-01 was a Thursday
		return false
	}
	_, found := slices.BinarySearchFunc(f.except, date, func(d dates, date int64) int {
		switch {
		case d.last < date:
			return -1
		case d.first > date:
			return 1
		}
		return 0
	})
	return !found
}

// mostSkipped bounds how many days are passed over in search of one that counts:
// more than lie between two 29ths of February on one weekday.
const mostSkipped = 60 * 366

func (f filtered) after(w int64) (int64, bool) {
	w = max(w, f.from-1)
	for range mostSkipped {
		next, ok := f.base.after(w)
		if !ok || next > f.until {
			return 0, false
		}
		date, into := f.span.of(next)
		if f.keepsDay(date) && (f.span == nil || into <= f.span.length) {
			return next, true
		}
		w = f.span.begin(date+1) - 1
	}
	return 0, false
}

func (f filtered) before(w int64) (int64, bool) {
	w = min(w, f.until+1)
	for range mostSkipped {
		last, ok := f.base.before(w)
		if !ok || last < f.from {
			return 0, false
		}
		date, into := f.span.of(last)
		keeps := f.keepsDay(date)
		if keeps && (f.span == nil || into <= f.span.length) {
			return last, true
		}
		if w = f.span.begin(date); keeps {
			w = f.span.end(date) + 1
		}
	}
	return 0, false
}

func (f filtered) repeats() bool { return f.base.repeats() }

var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

func parseDays(words []string) (set byte, err error) {
	for _, word := range words {
		first, last, ranged := strings.Cut(strings.ToLower(strings.TrimSpace(word)), "-")
		if !ranged {
			last = first
		}
		from, to := slices.Index(weekdays, first), slices.Index(weekdays, last)
		if from < 0 || to < 0 {
			return 0, fmt.Errorf("on %q is no day of the week; write mon, tue, wed, thu, fri, sat or sun, or a range as in mon-fri", word)
		}
		for ; ; from = (from + 1) % 7 {
			set |= 1 << from
			if from == to {
				break
			}
		}
	}
	return set, nil
}

func parseExcept(texts []string) (list []dates, err error) {
	for _, text := range texts {
		first, last, ranged := strings.Cut(text, "..")
		if !ranged {
			last = first
		}
		from, err1 := time.Parse(time.DateOnly, strings.TrimSpace(first))
		to, err2 := time.Parse(time.DateOnly, strings.TrimSpace(last))
		switch {
		case err1 != nil || err2 != nil:
			return nil, fmt.Errorf("except %q is no date; write it as 2026-12-24, or a range as in 2026-07-01..2026-07-31", text)
		case to.Before(from):
			return nil, fmt.Errorf("except %q ends before it begins; swap the two", text)
		}
		list = append(list, dates{from.Unix() / day, to.Unix() / day})
	}
	slices.SortFunc(list, func(a, b dates) int { return int(a.first - b.first) })
	joined := list[:0]
	for _, d := range list {
		if n := len(joined); n > 0 && d.first <= joined[n-1].last+1 {
			joined[n-1].last = max(joined[n-1].last, d.last)
			continue
		}
		joined = append(joined, d)
	}
	if len(joined) == 0 {
		return nil, nil
	}
	return joined, nil
}

// moments is due at each of a few times on the wall, in order.
type moments []int64

func (m moments) after(w int64) (int64, bool) {
	i, found := slices.BinarySearch(m, w)
	if found {
		i++
	}
	if i == len(m) {
		return 0, false
	}
	return m[i], true
}

func (m moments) before(w int64) (int64, bool) {
	i, _ := slices.BinarySearch(m, w)
	if i == 0 {
		return 0, false
	}
	return m[i-1], true
}

func (moments) repeats() bool { return false }

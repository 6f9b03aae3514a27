// Package backfill turns a range of time into the windows that are to be worked
// through, and says in which order.
//
// It computes only and imports nothing of ours but core/calendar. What it keeps
// true: the stretches of a plan lie in the range, do not overlap, and hold each
// chosen window once.
package backfill

import (
	"fmt"
	"slices"
	"time"

	"wiselantern/core/calendar"
)

// MostWindows bounds how many windows a backfill may have.
const MostWindows = 300_000

// Range is a half-open stretch of time [From, Until).
type Range struct{ From, Until time.Time }

// ParseRange reads the two ends of a range in a zone. Dates are whole days, both
// included; moments (RFC 3339, or on the wall clock) are half-open. An error says
// behind a semicolon what to write instead.
func ParseRange(from, to string, zone *time.Location) (r Range, err error) {
	if r.From, _, err = parseEnd(from, zone); err != nil {
		return r, fmt.Errorf("from: %w", err)
	}
	until, isDate, err := parseEnd(to, zone)
	if err != nil {
		return r, fmt.Errorf("to: %w", err)
	}
	if r.Until = until; isDate {
		r.Until = time.Date(until.Year(), until.Month(), until.Day()+1, 0, 0, 0, 0, zone)
	}
	if !r.From.Before(r.Until) {
		return r, fmt.Errorf("the range ends before it starts: from %s to %s; swap the two", from, to)
	}
	return r, nil
}

func parseEnd(text string, zone *time.Location) (at time.Time, isDate bool, err error) {
	if t, err := time.ParseInLocation(time.DateOnly, text, zone); err == nil {
		return t, true, nil
	}
	for _, layout := range []string{"2006-01-02T15:04", "2006-01-02 15:04", "2006-01-02T15:04:05"} {
		if t, err := time.ParseInLocation(layout, text, zone); err == nil {
			return t, false, nil
		}
	}
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return t, false, fmt.Errorf("%q is neither a date nor a moment; write it as 2026-03-28, 2026-03-28T06:00 or 2026-03-28T06:00:00+01:00", text)
	}
	return t, false, nil
}

// State is how a window stands: what has become of its newest run.
type State string

// The states of a window.
const (
	Missing   State = "missing" // it has no run
	Succeeded State = "succeeded"
	Failed    State = "failed"  // failed, or was stopped
	Running   State = "running" // queued or running, or another backfill is about to
)

// Only says which windows are chosen.
type Only string

// The words of Only.
const (
	OnlyMissing Only = "missing"
	OnlyFailed  Only = "failed"
	OnlyAll     Only = "all"
)

// Options say which windows of a range are worked through, and how.
type Options struct {
	Only   Only
	Newest bool           // the newest first
	Days   []time.Weekday // only windows that begin on these; nil is all
	Months []time.Month   // only windows that begin in these; nil is all
	Merge  time.Duration  // windows that follow each other are made one, up to that long; 0 is not
	Zone   *time.Location // whose days and months these are
}

// Stretch is what one run of a backfill is for: one window, or several that
// follow each other.
type Stretch struct {
	calendar.Window
	Windows int
}

// Plan is what a backfill would do.
type Plan struct {
	Windows   int           // that the range has, on the days and in the months that are asked for
	States    map[State]int // of these
	Chosen    int           // how many are chosen
	Stretches []Stretch     // in the order in which they are worked through
}

// New plans a backfill: windows are those of the range, oldest first, and state
// says how each stands.
func New(windows []calendar.Window, state func(calendar.Window) State, o Options) Plan {
	p := Plan{States: map[State]int{}}
	for _, w := range windows {
		local := w.Start.In(o.Zone)
		if o.Days != nil && !slices.Contains(o.Days, local.Weekday()) || o.Months != nil && !slices.Contains(o.Months, local.Month()) {
			continue
		}
		s := state(w)
		p.Windows++
		p.States[s]++
		if !o.chooses(s) {
			continue
		}
		p.Chosen++
		if n := len(p.Stretches); n > 0 && o.Merge > 0 {
			if last := &p.Stretches[n-1]; last.End.Equal(w.Start) && w.End.Sub(last.Start) <= o.Merge {
				last.End, last.Windows = w.End, last.Windows+1
				continue
			}
		}
		p.Stretches = append(p.Stretches, Stretch{w, 1})
	}
	if o.Newest {
		slices.Reverse(p.Stretches)
	}
	return p
}

func (o Options) chooses(s State) bool {
	switch o.Only {
	case OnlyAll:
		return true
	case OnlyFailed:
		return s == Failed
	}
	return s == Missing
}

// Windows are those of the schedule that lie whole in the range and have ended by
// now, oldest first, each once.
func Windows(schedules []calendar.Schedule, r Range, now time.Time) (all []calendar.Window, err error) {
	until := r.Until
	if now.Before(until) {
		until = now
	}
	for _, s := range schedules {
		due, more := s.Windows(r.From, until, MostWindows)
		if more {
			covered := due[len(due)-1].Window.End.Sub(r.From)
			about := float64(len(due)) * float64(until.Sub(r.From)) / float64(max(covered, 1))
			return nil, fmt.Errorf("the range has about %.0f windows, over the limit of %d; make it shorter, and go on with the rest when that is done", about, MostWindows)
		}
		for _, d := range due {
			if !d.Window.Start.Before(r.From) && !d.Window.End.After(until) {
				all = append(all, d.Window)
			}
		}
	}
	slices.SortFunc(all, func(a, b calendar.Window) int {
		if c := a.Start.Compare(b.Start); c != 0 {
			return c
		}
		return a.End.Compare(b.End)
	})
	all = slices.CompactFunc(all, func(a, b calendar.Window) bool { return a.Start.Equal(b.Start) && a.End.Equal(b.End) })
	switch {
	case len(all) > 0:
		return all, nil
	case !r.From.Before(now):
		return nil, fmt.Errorf("the range lies in the future; a backfill is for windows that have ended")
	}
	return nil, fmt.Errorf("no window lies whole in the range from %s to %s; make it longer", r.From.Format("2006-01-02 15:04"), until.In(r.From.Location()).Format("2006-01-02 15:04"))
}

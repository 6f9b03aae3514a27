package calendar

import (
	"time"
	_ "time/tzdata" // zones come with the binary
)

// Rule is one time rule in one zone. The zero Rule is not valid; make one with
// Every or Cron. A Rule is a value and safe for use by many goroutines.
type Rule struct {
	wall   wallClock
	zone   *time.Location
	delay  time.Duration
	covers Covers
	text   string
}

// Window is the half-open stretch of time [Start, End) whose data a run is for.
type Window struct {
	Start time.Time `json:"start"`
	End   time.Time `json:"end"`
}

// wallClock is what a rule says about the clock on the wall, where every day
// has 24 hours and no zone exists. Wall times are whole seconds since
// 1970-01-01T00:00 on that wall.
type wallClock interface {
	// after is the first wall time of the rule that is later than w.
	after(w int64) (int64, bool)
	// before is the last wall time of the rule that is earlier than w.
	before(w int64) (int64, bool)
	// repeats tells whether a wall time that the clock shows twice is due twice.
	repeats() bool
}

// Every makes the rule that is due at each multiple of step.
//
// A step that divides a day counts from midnight on the wall clock of the zone;
// one of whole days counts midnights from Monday 2000-01-03; any other counts
// wall-clock time from that midnight. The step is at least one second and in
// whole seconds.
func Every(step time.Duration, zone *time.Location) (Rule, error) {
	return New(Spec{Every: step, Zone: zone})
}

// Cron makes the rule of a five-field expression; see parseCron for its grammar.
func Cron(expression string, zone *time.Location) (Rule, error) {
	return New(Spec{Cron: expression, Zone: zone})
}

// Words are the rule in a few words, without its zone.
func (r Rule) Words() string { return r.text }

// Zone is where the wall clock of the rule hangs.
func (r Rule) Zone() *time.Location { return r.zone }

// String is the rule as it was written, for messages.
func (r Rule) String() string { return r.text + " in " + r.zone.String() }

// After is the first due moment later than t, in the zone of the rule. It is
// false if the rule is not due within the next fifty years.
func (r Rule) After(t time.Time) (time.Time, bool) {
	tick, ok := r.tickAfter(t.Add(-r.delay))
	return tick.Add(r.delay), ok
}

// Before is the last due moment earlier than t, in the zone of the rule. It is
// false if the rule was not due within the fifty years before.
func (r Rule) Before(t time.Time) (time.Time, bool) {
	tick, ok := r.tickBefore(t.Add(-r.delay))
	return tick.Add(r.delay), ok
}

// tickAfter is the first moment of the rule later than t. A rule is due at each of
// its moments, or with a delay that long after them.
func (r Rule) tickAfter(t time.Time) (time.Time, bool) {
	limit := t.AddDate(50, 0, 0)
	for s := stretchAt(t, r.zone); s.start.Before(limit); s = stretchAt(s.end, r.zone) {
		if s.start.After(t) && r.dueAtJump(s) {
			return s.start, true
		}
		if due, ok := r.afterWithin(s, t); ok {
			return due, true
		}
		if s.endless {
			break
		}
	}
	return time.Time{}, false
}

func (r Rule) tickBefore(t time.Time) (time.Time, bool) {
	limit := t.AddDate(-50, 0, 0)
	for s := stretchAt(t.Add(-1), r.zone); s.end.After(limit) || s.endless; s = stretchAt(s.start.Add(-1), r.zone) {
		if due, ok := r.beforeWithin(s, t); ok {
			return due, true
		}
		if s.start.Before(t) && !s.beginless && r.dueAtJump(s) {
			return s.start, true
		}
		if s.beginless {
			break
		}
	}
	return time.Time{}, false
}

// Window is the window of a due moment: what lies between the moment of the rule
// before its own and that, or what the rule covers. It is false if there is none,
// for nothing came before.
func (r Rule) Window(due time.Time) (Window, bool) {
	tick := due.Add(-r.delay).In(r.zone)
	if !r.covers.isDefault() {
		return r.covers.window(tick), true
	}
	start, ok := r.tickBefore(tick)
	return Window{Start: start, End: tick}, ok
}

// stretch is a stretch of time in which the zone keeps one offset.
type stretch struct {
	start, end         time.Time // [start, end)
	offset             int64     // seconds east of UTC
	previous           int64     // the offset before start
	beginless, endless bool
}

func stretchAt(t time.Time, zone *time.Location) stretch {
	local := t.In(zone)
	start, end := local.ZoneBounds()
	if !end.IsZero() && !end.After(t) {
		// Beyond the changes that a zone lists, Go ends the last stretch of a leap
		// year at the beginning of its 366th day, and says so on that day too.
		end = t.Add(24 * time.Hour)
	}
	_, offset := local.Zone()
	s := stretch{start: start, end: end, offset: int64(offset), previous: int64(offset), beginless: start.IsZero(), endless: end.IsZero()}
	if !s.beginless {
		_, before := start.Add(-time.Second).In(zone).Zone()
		s.previous = int64(before)
	}
	return s
}

func (s stretch) wallAt(t time.Time) int64 { return t.Unix() + s.offset }

// repeated tells whether the clock showed w already before s began.
func (s stretch) repeated(w int64) bool {
	return !s.beginless && w < s.start.Unix()+s.previous
}

// dueAtJump tells whether the jump forward at the start of s passed over a time
// of the rule.
func (r Rule) dueAtJump(s stretch) bool {
	from, to := s.start.Unix()+s.previous, s.start.Unix()+s.offset
	if to <= from {
		return false
	}
	w, ok := r.wall.after(from - 1)
	return ok && w < to
}

func (r Rule) afterWithin(s stretch, t time.Time) (time.Time, bool) {
	from := s.wallAt(t)
	if !s.beginless && t.Before(s.start) {
		from = s.wallAt(s.start) - 1
	}
	if !r.wall.repeats() && !s.beginless {
		// Passes over the times that were due when the clock showed them first.
		from = max(from, s.start.Unix()+s.previous-1)
	}
	w, ok := r.wall.after(from)
	if !ok {
		return time.Time{}, false
	}
	due := time.Unix(w-s.offset, 0).In(r.zone)
	return due, s.endless || due.Before(s.end)
}

func (r Rule) beforeWithin(s stretch, t time.Time) (time.Time, bool) {
	to := s.wallAt(t)
	if t.Nanosecond() > 0 {
		to++
	}
	if !s.endless && t.After(s.end) {
		to = s.wallAt(s.end)
	}
	w, ok := r.wall.before(to)
	if !ok || !r.wall.repeats() && s.repeated(w) {
		return time.Time{}, false
	}
	due := time.Unix(w-s.offset, 0).In(r.zone)
	return due, s.beginless || !due.Before(s.start)
}

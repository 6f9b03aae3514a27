package calendar

import "time"

// Schedule is one or several rules together. The windows of those that cover what
// lies between their moments are cut at the moments of all of them: together they
// cover time without gap and without overlap. The zero Schedule is never due.
type Schedule struct{ rules []Rule }

// NewSchedule is the schedule of those rules.
func NewSchedule(rules ...Rule) Schedule { return Schedule{rules} }

// Due is one due moment of a schedule and the window that it is for.
type Due struct {
	At     time.Time
	Window Window // zero if nothing came before and so there is none
	Rule   int    // which rule asks for it: the first, if several ask for the same window
}

// After are the due moments at the first time later than t at which there are
// any, each with a window of its own; nil if the schedule is not due within fifty
// years.
func (s Schedule) After(t time.Time) (all []Due) {
	var at time.Time
	for i, r := range s.rules {
		next, ok := r.After(t)
		if !ok || all != nil && next.After(at) {
			continue
		}
		if all != nil && next.Before(at) {
			all = nil
		}
		at = next
		due := Due{At: next, Window: s.window(r, next), Rule: i}
		if !contains(all, due) {
			all = append(all, due)
		}
	}
	return all
}

func contains(all []Due, due Due) bool {
	for _, other := range all {
		if other.Window.Start.Equal(due.Window.Start) && other.Window.End.Equal(due.Window.End) {
			return true
		}
	}
	return false
}

// window is that of a due moment of a rule, cut at the moments of the others.
func (s Schedule) window(r Rule, due time.Time) Window {
	w, ok := r.Window(due)
	if !r.covers.isDefault() {
		return w
	}
	end := due.Add(-r.delay).In(r.zone)
	for _, other := range s.rules {
		if !other.covers.isDefault() {
			continue
		}
		if start, before := other.tickBefore(end); before && (!ok || start.After(w.Start)) {
			w, ok = Window{Start: start.In(r.zone), End: end}, true
		}
	}
	if !ok {
		return Window{}
	}
	return w
}

// Rules are the rules of the schedule.
func (s Schedule) Rules() []Rule { return s.rules }

// Windows lists the windows that end after from and begin before until, oldest
// first, each with when it was due, at most limit of them. The last value tells
// whether there are more.
func (s Schedule) Windows(from, until time.Time, limit int) (all []Due, more bool) {
	// A window ends at the moment of its rule, or with covers away from it.
	early, late := time.Duration(0), time.Duration(0)
	for _, r := range s.rules {
		if c := r.covers; !c.isDefault() {
			early = max(early, c.Ends)
			late = max(late, 62*24*time.Hour, time.Duration(c.Days+1)*24*time.Hour+c.Length-c.Ends)
		}
		late = max(late, r.delay)
	}
	at := from.Add(-early)
	for {
		next := s.After(at)
		if next == nil || !next[0].Window.Start.Before(until) && next[0].At.After(until.Add(late)) {
			return all, false
		}
		at = next[0].At
		for _, due := range next {
			if due.Window.End.After(from) && due.Window.Start.Before(until) && !due.Window.End.IsZero() {
				if len(all) == limit {
					return all, true
				}
				all = append(all, due)
			}
		}
	}
}

package forecast

import "time"

// Going is a run that is going.
type Going struct {
	Started time.Time
	DueBy   time.Time // when it must be done; zero for none
	Usual   Usual     // of runs of its workflow
	Tasks   []Task
	Names   []string
	Usuals  []Usual // of each task
}

// Late says why a run is late.
type Late struct {
	Kind     string // due, run, task
	Task     string // of kind task
	Elapsed  time.Duration
	Median   time.Duration // of kind run and task
	Expected time.Time     // of kind due: when it should end
}

// Judge tells whether a run is late at that moment, and if it is not, when it
// will be unless something changes; a zero moment says never.
func (g Going) Judge(now time.Time) (late *Late, next time.Time) {
	sooner := func(t time.Time) {
		if next.IsZero() || t.Before(next) {
			next = t
		}
	}
	if !g.DueBy.IsZero() {
		rest := Expect(g.Tasks, now)
		if rest.End.After(g.DueBy) {
			return &Late{Kind: "due", Expected: rest.End, Elapsed: now.Sub(g.Started)}, time.Time{}
		}
		// Tasks that go on push the end before them, once they are over what is usual.
		sooner(g.DueBy.Add(-rest.Tail + time.Millisecond))
	}
	if limit, ok := g.Usual.FarLonger(); ok {
		if now.Sub(g.Started) >= limit {
			return &Late{Kind: "run", Elapsed: now.Sub(g.Started), Median: g.Usual.Median}, time.Time{}
		}
		sooner(g.Started.Add(limit))
	}
	for i, t := range g.Tasks {
		limit, ok := g.Usuals[i].FarLonger()
		if !ok || t.Settled || t.Started.IsZero() {
			continue
		}
		if now.Sub(t.Started) >= limit {
			return &Late{Kind: "task", Task: g.Names[i], Elapsed: now.Sub(t.Started), Median: g.Usuals[i].Median}, time.Time{}
		}
		sooner(t.Started.Add(limit))
	}
	return nil, next
}

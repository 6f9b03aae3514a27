package flow

import (
	"time"

	"wiselantern/core/definition"
)

// Plan is the graph of a workflow as the state machine walks it: tasks are
// numbers, edges are in both directions. It never changes, and the runs of one
// version share it.
type Plan struct {
	tasks []planned
}

type planned struct {
	name  string
	retry definition.Retry
	after []edge // what it comes after
	next  []edge // the tasks that come after it
}

// edge is one dependency, seen from one of its ends: the task at the other end,
// and the outcomes that are expected of the earlier one.
type edge struct {
	task     int
	expected outcomes
}

// outcomes is a set of settled states, a bit each.
type outcomes uint16

func (o outcomes) has(s State) bool { return o&(1<<s) != 0 }

// NewPlan makes the plan of a workflow that was read without problems.
func NewPlan(w *definition.Workflow) *Plan {
	index := make(map[string]int, len(w.Tasks))
	for i, t := range w.Tasks {
		index[t.Name] = i
	}
	p := &Plan{tasks: make([]planned, len(w.Tasks))}
	for i, t := range w.Tasks {
		p.tasks[i].name, p.tasks[i].retry = t.Name, t.Retry
		for _, name := range t.After {
			from := index[name]
			expected := outcomes(1 << Succeeded)
			p.tasks[i].after = append(p.tasks[i].after, edge{from, expected})
			p.tasks[from].next = append(p.tasks[from].next, edge{i, expected})
		}
	}
	return p
}

// Len is the number of tasks.
func (p *Plan) Len() int { return len(p.tasks) }

// Name is the name of the task with that number.
func (p *Plan) Name(task int) string { return p.tasks[task].name }

// Index is the number of the task with that name.
func (p *Plan) Index(name string) (int, bool) {
	for i := range p.tasks {
		if p.tasks[i].name == name {
			return i, true
		}
	}
	return 0, false
}

// pauseAfter is how long a task cools after its attempt with that number (from
// 1). The share of the spread is drawn from seed, so that the same run takes
// the same pauses when it is computed again.
func pauseAfter(r definition.Retry, attempt int, seed uint64) time.Duration {
	pause := float64(r.Pause)
	for i := 1; i < attempt && pause < float64(r.Cap); i++ {
		pause *= r.Growth
	}
	pause = min(pause, float64(r.Cap))
	share := float64(mix(seed)>>11)/(1<<53)*2 - 1 // in [-1, 1)
	return time.Duration(pause * (1 + r.Spread*share))
}

// mix is the finaliser of SplitMix64 (Steele, Lea, Flood: Fast Splittable
// Pseudorandom Number Generators, 2014).
func mix(x uint64) uint64 {
	x += 0x9e3779b97f4a7c15
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

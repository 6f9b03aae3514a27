package flow

import (
	"slices"
	"time"

	"wiselantern/core/definition"
)

// Plan is the graph of a workflow as the state machine walks it: tasks are
// numbers, edges are in both directions. It never changes, and the runs of one
// version share it. Its tasks are the nodes of the definition: those of the file
// and, behind them, the opening and the closing of each resource. A run has
// further ones behind these: the items of the tasks that are made for each.
type Plan struct {
	tasks     []planned
	resources []resource
	previous  []int         // the nodes that stand for tasks in the run of the window before
	deadline  time.Duration // of a whole run; 0 is none
}

type planned struct {
	name       string
	after      []edge // what it comes after
	next       []edge // the tasks that come after it
	join       join
	otherwise  string // as in the definition
	retry      definition.Retry
	timeout    time.Duration // of an attempt; kept by the worker, or here while it is parked
	skips      bool          // when it was parked for that long, it is skipped, not failed
	outcomes   []definition.ExitCodes
	mayFail    bool
	repeatable bool
	onlyIf     string // its condition, for the reason; "" without one
	route      bool   // it chooses among the tasks that come after it, and runs nothing

	each        bool // it is made once for each item of a list
	atOnce      int  // so many of them at a time; 0 is any number
	stopOnFirst bool // and when one fails, no more of them

	within []int // the resources that are open while it is made
	role   role
	of     int // the resource that it opens or closes
}

// role is what a node is there for.
type role byte

const (
	work role = iota
	opening
	closing
	previous // it stands for a task in the run of the window before
)

// resource is opened before the first of its users and closed after the last.
type resource struct {
	name        string
	open, close int   // its nodes
	users       []int // tasks, and the nodes of resources, that are within it
}

// edge is one dependency, seen from one of its ends: the task at the other end,
// and the outcomes that are expected of the earlier one.
type edge struct {
	task     int
	expected outcomes
	routed   bool // the earlier one is a route that may choose the later one, or not
}

// outcomes is a set of settled states, a bit each.
type outcomes uint16

func (o outcomes) has(s State) bool { return o&(1<<s) != 0 }

// join is how many of the edges must be as expected, and when that is decided.
type join struct {
	need int  // at least this many are as expected
	wait bool // and nothing is decided for it before all have settled
}

func newJoin(j definition.Join, edges int) join {
	need := edges
	switch j.Kind {
	case "any", "first":
		need = min(1, edges)
	case "count":
		need = min(j.Count, edges)
	}
	return join{need: need, wait: j.Kind == "any"}
}

// NewPlan makes the plan of a workflow that was read without problems.
func NewPlan(w *definition.Workflow) *Plan {
	nodes := w.Nodes()
	index := make(map[string]int, len(nodes))
	for i, t := range nodes {
		index[t.Name] = i
	}
	p := &Plan{tasks: make([]planned, len(nodes)), resources: make([]resource, len(w.Resources)), deadline: w.Deadline.Duration()}
	place := make(map[string]int, len(w.Resources))
	for i, res := range w.Resources {
		place[res.Name] = i
		open, close := index[res.OpenName()], index[res.CloseName()]
		p.resources[i] = resource{name: res.Name, open: open, close: close}
		p.tasks[open].role, p.tasks[open].of = opening, i
		p.tasks[close].role, p.tasks[close].of = closing, i
	}
	for i, t := range nodes {
		task := &p.tasks[i]
		if t.Kind == definition.PreviousKind {
			task.role = previous
			p.previous = append(p.previous, i)
		}
		task.name, task.retry, task.outcomes = t.Name, t.Retry, t.Outcomes
		task.timeout, task.skips = t.Timeout.Duration(), t.OnTimeout == "skip"
		task.otherwise, task.mayFail, task.repeatable = t.Otherwise, t.MayFail, t.Repeatable
		task.onlyIf, task.route = t.OnlyIf, t.Kind == "route"
		task.each, task.atOnce, task.stopOnFirst = t.ForEach != "", t.AtOnce, t.StopOnFirst
		for _, name := range t.Within {
			task.within = append(task.within, place[name])
			p.resources[place[name]].users = append(p.resources[place[name]].users, i)
		}
		task.join = newJoin(t.Join, len(t.After))
		for _, d := range t.After {
			from := index[d.Task]
			expected := expect(d.Expect)
			routed := routesTo(nodes[from], t.Name)
			task.after = append(task.after, edge{from, expected, routed})
			p.tasks[from].next = append(p.tasks[from].next, edge{i, expected, routed})
		}
	}
	return p
}

func routesTo(t definition.Task, name string) bool {
	return slices.ContainsFunc(t.Route, func(rule definition.Rule) bool { return slices.Contains(rule.To, name) })
}

func expect(words []string) (o outcomes) {
	for s := Succeeded; s <= Stopped; s++ {
		if slices.Contains(words, s.String()) {
			o |= 1 << s
		}
	}
	return o
}

// Len is the number of nodes.
func (p *Plan) Len() int { return len(p.tasks) }

// Name is the name of the node with that number.
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

// Downstream are the nodes and everything that comes after them, each once.
func (p *Plan) Downstream(tasks []int) []int {
	found := slices.Clone(tasks)
	seen := make([]bool, len(p.tasks))
	for _, task := range found {
		seen[task] = true
	}
	for i := 0; i < len(found); i++ {
		for _, e := range p.tasks[found[i]].next {
			if !seen[e.task] {
				seen[e.task] = true
				found = append(found, e.task)
			}
		}
	}
	return found
}

// Verdict is what the report of an attempt means for its task: as the exit code
// says, where the definition gives it a meaning, or else as the worker saw it.
// A Failed verdict may be tried again; a Refused one never is.
func (p *Plan) Verdict(r *Run, in Ended) Outcome {
	if in.HasCode && (in.Outcome == AttemptSucceeded || in.Outcome == AttemptFailed) {
		for _, codes := range p.planned(r, in.Task).outcomes {
			if in.Code < codes.From || in.Code > codes.To {
				continue
			}
			switch codes.Outcome {
			case "succeeded":
				return AttemptSucceeded
			case "skipped":
				return AttemptSkipped
			case "failed":
				return AttemptRefused
			}
			return AttemptFailed
		}
	}
	return in.Outcome
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

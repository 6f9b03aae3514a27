package flow

import (
	"slices"
	"strconv"
	"strings"
	"time"
)

// Run is one execution of a plan. The zero values of its tasks are idle; a new
// Run comes from New, one that was recorded before from Restore.
type Run struct {
	State    RunState
	Tasks    []Task
	Stopping bool   // a person asked for the end of the whole run
	Seed     uint64 // draws the spread of pauses

	unsettled int   // nodes that have not settled
	bad       int   // nodes that failed, were unreached or stopped, and may not
	held      int   // tasks that need a person
	inUse     []int // of each resource, how many of its users have not settled
}

// Task is one task of a run.
type Task struct {
	State    State
	Attempts int    // how many were made, the current one among them
	Before   int    // how many of them were made before the task was last made to run again
	Lost     int    // how many since then were lost with their worker
	Reason   string // why it is in this state, as a sentence, where that is not plain
	Stopping bool   // its attempt is being ended; it settles when the worker says so
	Chosen   []int  // the tasks that a route has chosen
	Cleared  bool   // it may begin: it is idle only until its resources are open
	Items    int    // of a task made for each item: how many there are, once its list is known

	Of    int    // of an item: the task that it is an item of
	Item  int    // its place in the list, from 0
	Value string // its value, as the judge gave it

	items items // of a task made for each

	pending int  // tasks it comes after that have not settled
	met     int  // those that came out as expected
	badly   bool // one of the others failed, was unreached or was stopped
}

// attempt is the number of the current attempt among those that count for
// retry: lost ones do not, nor those before the task was made to run again.
func (t *Task) attempt() int { return t.Attempts - t.Before - t.Lost }

// New is a queued run of the plan.
func New(p *Plan, seed uint64) *Run {
	return Restore(p, Run{State: RunQueued, Tasks: make([]Task, p.Len()), Seed: seed})
}

// Restore is the run that was recorded with those exported fields. What can be
// derived from the states of its tasks is derived, not recorded.
func Restore(p *Plan, recorded Run) *Run {
	r := &recorded
	r.unsettled, r.bad, r.held, r.inUse = 0, 0, 0, make([]int, len(p.resources))
	for i := range r.Tasks {
		if i < p.Len() {
			r.Tasks[i].items = items{}
			p.recount(r, i)
		} else {
			of := &r.Tasks[r.Tasks[i].Of].items
			of.places = append(of.places, i)
			if r.Tasks[i].State == Idle {
				of.queue = append(of.queue, i)
			}
		}
		p.count(r, i, 1)
	}
	return r
}

// Node is the number, in the plan, of the task with that number in the run: of
// an item, that of the task that it is an item of.
func (p *Plan) Node(r *Run, task int) int {
	if task < p.Len() {
		return task
	}
	return r.Tasks[task].Of
}

func (p *Plan) planned(r *Run, task int) *planned { return &p.tasks[p.Node(r, task)] }

// Label is the name of a task of the run, as in load or load[3].
func (p *Plan) Label(r *Run, task int) string {
	if task < p.Len() {
		return p.Name(task)
	}
	return ItemName(p.Name(r.Tasks[task].Of), r.Tasks[task].Item)
}

// ItemName is the name of an item of a task.
func ItemName(task string, item int) string { return task + "[" + strconv.Itoa(item) + "]" }

// Find is the number of the task of the run with that label. An item that is
// no longer in its task's list is found too: its attempts stay readable.
func (p *Plan) Find(r *Run, label string) (int, bool) {
	name, rest, isItem := strings.Cut(label, "[")
	task, ok := p.Index(name)
	if !isItem || !ok {
		return task, ok
	}
	item, err := strconv.Atoi(strings.TrimSuffix(rest, "]"))
	places := r.Tasks[task].items.places
	if err != nil || item < 0 || item >= len(places) || ItemName(name, item) != label {
		return 0, false
	}
	return places[item], true
}

// Current tells whether a task counts in the run as it stands; an item does not
// when its task's list has become shorter, or is to be told anew.
func (p *Plan) Current(r *Run, task int) bool {
	return task < p.Len() || r.Tasks[task].Item < r.Tasks[r.Tasks[task].Of].Items
}

// ItemPlaces are the numbers of the items of a task, in the order of its list.
func (r *Run) ItemPlaces(task int) []int { return r.Tasks[task].items.places[:r.Tasks[task].Items] }

// recount derives how the dependencies of a task stand.
func (p *Plan) recount(r *Run, task int) {
	t := &r.Tasks[task]
	t.pending, t.met, t.badly = 0, 0, false
	for _, e := range p.tasks[task].after {
		switch from := r.Tasks[e.task].State; {
		case !from.Settled():
			t.pending++
		case r.cameOut(e.task, task, e):
			t.met++
		default:
			t.badly = t.badly || bad(from)
		}
	}
}

// cameOut tells whether the settled task from is as its successor to expects:
// in one of the states, and, if it is a route that may lead there, by its choice.
func (r *Run) cameOut(from, to int, e edge) bool {
	t := &r.Tasks[from]
	return e.expected.has(t.State) && (!e.routed || t.State != Succeeded || slices.Contains(t.Chosen, to))
}

// count adds a task to what the run counts, or with -1 takes it out. Items count
// for their task, and that counts for the run.
func (p *Plan) count(r *Run, task, by int) {
	state := r.Tasks[task].State
	if state == Held {
		r.held += by
	}
	if task >= p.Len() {
		if p.Current(r, task) {
			r.Tasks[r.Tasks[task].Of].items.count(state, by)
		}
		return
	}
	if !state.Settled() {
		r.unsettled += by
		for _, res := range p.tasks[task].within {
			r.inUse[res] += by
		}
	}
	if bad(state) && !p.tasks[task].mayFail {
		r.bad += by
	}
}

func bad(s State) bool { return s == Failed || s == Unreached || s == Stopped }

// Attention tells whether something in the run needs a person.
func (r *Run) Attention() bool { return r.held > 0 }

// Input is what happened to a run: Choose, Opened, Started, Parked, Came, Ended,
// TimerDue, Stop, Release or Rerun.
type Input interface{ moment() time.Time }

// Choose leaves everything out of a queued run but these nodes. What comes before
// them is taken as having come out as they expect, the rest as skipped.
type Choose struct {
	At    time.Time
	Tasks []int
	By    string
}

// Opened begins a queued run.
type Opened struct{ At time.Time }

// Started is a worker's word that it executes an attempt.
type Started struct {
	At            time.Time
	Task, Attempt int
}

// Parked tells that an attempt waits for something outside, and for what.
type Parked struct {
	At            time.Time
	Task, Attempt int
	Reason        string
}

// Came tells how the task came out, in the run of the window before, that a node
// stands for; or that it is Waiting for it.
type Came struct {
	At     time.Time
	Task   int
	As     State
	Reason string
}

// Ended is a worker's report of an attempt.
type Ended struct {
	At            time.Time
	Task, Attempt int
	Outcome       Outcome // as the worker saw it
	HasCode       bool    // its process ended by itself
	Code          int     // with this exit code
	Error         string  // what went wrong, as a sentence without a full stop
}

// Outcome is how an attempt ended.
type Outcome string

// The outcomes of an attempt.
const (
	AttemptSucceeded Outcome = "succeeded"
	AttemptFailed    Outcome = "failed"
	AttemptStopped   Outcome = "stopped" // ended because it was asked to
	AttemptLost      Outcome = "lost"    // its worker is gone; nobody knows how far it came
	AttemptSkipped   Outcome = "skipped" // it found that there is nothing to do
	AttemptRefused   Outcome = "refused" // failed, and trying again is no use
)

// TimerDue is the end of the pause after the attempt with that number, or of the
// time that it may be parked, or, with AllTasks, the moment at which the run is
// over its deadline.
type TimerDue struct {
	At            time.Time
	Task, Attempt int
}

// Stop is a person's word that a run, or one task of it, is to end.
type Stop struct {
	At   time.Time
	Task int // or AllTasks
	By   string
}

// Release is a person's word about a held task: As is Succeeded, Skipped, or
// Ready to have it run.
type Release struct {
	At   time.Time
	Task int
	As   State
	By   string
}

// Rerun is a person's word that these tasks of a run are to be made again. The
// attempts that they had are kept. What comes after them is not touched unless
// it is among them.
type Rerun struct {
	At    time.Time
	Tasks []int // each has settled
	By    string
}

// AllTasks as the task of a Stop or a timer means the whole run.
const AllTasks = -1

func (i Choose) moment() time.Time   { return i.At }
func (i Opened) moment() time.Time   { return i.At }
func (i Started) moment() time.Time  { return i.At }
func (i Parked) moment() time.Time   { return i.At }
func (i Came) moment() time.Time     { return i.At }
func (i Ended) moment() time.Time    { return i.At }
func (i TimerDue) moment() time.Time { return i.At }
func (i Stop) moment() time.Time     { return i.At }
func (i Release) moment() time.Time  { return i.At }
func (i Rerun) moment() time.Time    { return i.At }

// Change is one change of a task's state.
type Change struct {
	Task     int
	From, To State
	Reason   string
}

// Effect is something to be done outside once the changes are recorded:
// Dispatch, Cancel, GiveUp, Arm or Finish.
type Effect interface{ effect() }

// Dispatch sends an attempt to the workers.
type Dispatch struct{ Task, Attempt int }

// Cancel asks the worker of an attempt to end it, or takes the attempt back if
// no worker has it.
type Cancel struct{ Task, Attempt int }

// GiveUp ends an attempt that is parked, as failed or as skipped, for that reason.
type GiveUp struct {
	Task, Attempt int
	Outcome       Outcome
	Reason        string
}

// Arm asks for a TimerDue at that moment. One with AllTasks replaces the one
// before.
type Arm struct {
	Task, Attempt int
	At            time.Time
}

// Finish tells that the run has ended, in the state that the run now has.
type Finish struct{}

func (Dispatch) effect() {}
func (Cancel) effect()   {}
func (GiveUp) effect()   {}
func (Arm) effect()      {}
func (Finish) effect()   {}

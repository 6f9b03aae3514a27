package flow

import (
	"slices"
	"time"
)

// Run is one execution of a plan. The zero values of its tasks are idle; a new
// Run comes from New, one that was recorded before from Restore.
type Run struct {
	State    RunState
	Tasks    []Task
	Stopping bool   // a person asked for the end of the whole run
	Seed     uint64 // draws the spread of pauses

	unsettled int // tasks that have not settled
	bad       int // tasks that failed, were unreached or stopped, and may not
	held      int // tasks that need a person
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
	r.unsettled, r.bad, r.held = 0, 0, 0
	for i := range r.Tasks {
		p.recount(r, i)
		p.count(r, i, 1)
	}
	return r
}

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

// count adds a task to what the run counts, or with -1 takes it out.
func (p *Plan) count(r *Run, task, by int) {
	state := r.Tasks[task].State
	if !state.Settled() {
		r.unsettled += by
	}
	if bad(state) && !p.tasks[task].mayFail {
		r.bad += by
	}
	if state == Held {
		r.held += by
	}
}

func bad(s State) bool { return s == Failed || s == Unreached || s == Stopped }

// Attention tells whether something in the run needs a person.
func (r *Run) Attention() bool { return r.held > 0 }

// Input is what happened to a run: Opened, Started, Ended, TimerDue, Stop,
// Release or Rerun.
type Input interface{ moment() time.Time }

// Opened begins a queued run.
type Opened struct{ At time.Time }

// Started is a worker's word that it executes an attempt.
type Started struct {
	At            time.Time
	Task, Attempt int
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

// TimerDue is the end of the pause after the attempt with that number, or, with
// AllTasks, the moment at which the run is over its deadline.
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

func (i Opened) moment() time.Time   { return i.At }
func (i Started) moment() time.Time  { return i.At }
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
// Dispatch, Cancel, Arm or Finish.
type Effect interface{ effect() }

// Dispatch sends an attempt to the workers.
type Dispatch struct{ Task, Attempt int }

// Cancel asks the worker of an attempt to end it, or takes the attempt back if
// no worker has it.
type Cancel struct{ Task, Attempt int }

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
func (Arm) effect()      {}
func (Finish) effect()   {}

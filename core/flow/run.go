package flow

import "time"

// Run is one execution of a plan. The zero values of its tasks are idle; a new
// Run comes from New, one that was recorded before from Restore.
type Run struct {
	State    RunState
	Tasks    []Task
	Stopping bool   // a person asked for the end of the whole run
	Seed     uint64 // draws the spread of pauses

	unsettled int // tasks that have not settled
	bad       int // tasks that failed, were unreached or stopped
}

// Task is one task of a run.
type Task struct {
	State    State
	Attempts int    // how many were made, the current one among them
	Lost     int    // how many of them were lost with their worker
	Reason   string // why it is in this state, as a sentence, where that is not plain
	Stopping bool   // its attempt is being ended; it settles when the worker says so

	pending int  // tasks it comes after that have not settled
	missed  bool // one of them came out other than expected
}

// New is a queued run of the plan.
func New(p *Plan, seed uint64) *Run {
	return Restore(p, Run{State: RunQueued, Tasks: make([]Task, p.Len()), Seed: seed})
}

// Restore is the run that was recorded with those exported fields. What can be
// derived from the states of its tasks is derived, not recorded.
func Restore(p *Plan, recorded Run) *Run {
	r, tasks := &recorded, recorded.Tasks
	for i := range tasks {
		t := &tasks[i]
		t.pending, t.missed = 0, false
		for _, e := range p.tasks[i].after {
			switch from := tasks[e.task].State; {
			case !from.Settled():
				t.pending++
			case !e.expected.has(from):
				t.missed = true
			}
		}
		if !t.State.Settled() {
			r.unsettled++
		}
		if bad(t.State) {
			r.bad++
		}
	}
	return r
}

func bad(s State) bool { return s == Failed || s == Unreached || s == Stopped }

// Attention tells whether something in the run needs a person.
func (r *Run) Attention() bool {
	for i := range r.Tasks {
		if r.Tasks[i].State == Held {
			return true
		}
	}
	return false
}

// Input is what happened to a run: Opened, Started, Ended, TimerDue or Stop.
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
	Outcome       Outcome
	Error         string // what went wrong, as a sentence without a full stop
}

// Outcome is how an attempt ended.
type Outcome string

// The outcomes of an attempt.
const (
	AttemptSucceeded Outcome = "succeeded"
	AttemptFailed    Outcome = "failed"
	AttemptStopped   Outcome = "stopped" // ended because it was asked to
	AttemptLost      Outcome = "lost"    // its worker is gone; nobody knows how far it came
)

// TimerDue is the end of the pause after the attempt with that number.
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

// AllTasks as the task of a Stop means the whole run.
const AllTasks = -1

func (i Opened) moment() time.Time   { return i.At }
func (i Started) moment() time.Time  { return i.At }
func (i Ended) moment() time.Time    { return i.At }
func (i TimerDue) moment() time.Time { return i.At }
func (i Stop) moment() time.Time     { return i.At }

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

// Arm asks for a TimerDue at that moment.
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

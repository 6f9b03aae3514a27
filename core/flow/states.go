// Package flow is the state machine of a run.
//
// A Run is a value; Step takes an input and changes it, and tells which tasks
// changed and what has to be done outside. It reads no clock, does no I/O,
// starts no goroutine and depends on no map's order: the same inputs give the
// same bytes. It imports nothing of ours outside core. What it keeps true: the
// cost of an input is proportional to the edges that it touches, never to the
// size of the run.
package flow

import "fmt"

// State is the state of a task.
type State uint8

// The states of a task; the last five are settled, that is, final.
const (
	Idle      State = iota // what it comes after has not settled
	Ready                  // may start; waits for capacity or a worker
	Running                // an attempt is being executed
	Waiting                // parked until something outside happens
	Cooling                // between two attempts
	Held                   // needs a person
	Succeeded              // settled
	Failed                 // settled
	Skipped                // settled: it was decided not to run it
	Unreached              // settled: what it needs can no longer happen
	Stopped                // settled: a person, or a newer run, ended it
)

var stateNames = [...]string{"idle", "ready", "running", "waiting", "cooling", "held", "succeeded", "failed", "skipped", "unreached", "stopped"}

// States lists every state in its order.
func States() []State {
	all := make([]State, len(stateNames))
	for i := range all {
		all[i] = State(i)
	}
	return all
}

func (s State) String() string { return stateNames[s] }

// Settled tells whether the state is final.
func (s State) Settled() bool { return s >= Succeeded }

// Glyph is the sign of the state, so that colour is never its only code.
func (s State) Glyph() string {
	return [...]string{"·", "◔", "◐", "◌", "◑", "◇", "●", "✕", "–", "○", "■"}[s]
}

// ParseState reads what String writes.
func ParseState(text string) (State, error) {
	for i, name := range stateNames {
		if name == text {
			return State(i), nil
		}
	}
	return 0, fmt.Errorf("%q is not a state of a task", text)
}

// RunState is the state of a run.
type RunState string

// The states of a run; the last three are final.
const (
	RunQueued    RunState = "queued"
	RunRunning   RunState = "running"
	RunSucceeded RunState = "succeeded"
	RunFailed    RunState = "failed"
	RunStopped   RunState = "stopped"
)

// Settled tells whether the state is final.
func (s RunState) Settled() bool {
	return s == RunSucceeded || s == RunFailed || s == RunStopped
}

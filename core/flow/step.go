package flow

import (
	"fmt"
	"time"
)

// mostLost is how many attempts in a task may be lost with their workers before
// the task is given up: a task that brings its machine down must not do so for
// ever.
const mostLost = 5

// Step applies an input to the run. An input that no longer fits, such as a
// report that comes twice or late, changes nothing and has no effects.
func (p *Plan) Step(r *Run, in Input) ([]Change, []Effect) {
	s := stepper{plan: p, run: r, at: in.moment()}
	switch in := in.(type) {
	case Opened:
		s.opened()
	case Started:
		s.started(in)
	case Ended:
		s.ended(in)
	case TimerDue:
		s.timerDue(in)
	case Stop:
		s.stop(in)
	}
	s.spread()
	s.finish()
	return s.changes, s.effects
}

type stepper struct {
	plan    *Plan
	run     *Run
	at      time.Time
	changes []Change
	effects []Effect
	settled []int // tasks that have settled and whose successors have not been told
}

// set moves a task into a state.
func (s *stepper) set(task int, to State, reason string) {
	t := &s.run.Tasks[task]
	s.changes = append(s.changes, Change{Task: task, From: t.State, To: to, Reason: reason})
	t.State, t.Reason = to, reason
	if to.Settled() {
		t.Stopping = false
		s.run.unsettled--
		if bad(to) {
			s.run.bad++
		}
		s.settled = append(s.settled, task)
	}
}

// dispatch makes the next attempt of a task.
func (s *stepper) dispatch(task int, reason string) {
	t := &s.run.Tasks[task]
	t.Attempts++
	s.set(task, Ready, reason)
	s.effects = append(s.effects, Dispatch{task, t.Attempts})
}

func (s *stepper) opened() {
	if s.run.State != RunQueued {
		return
	}
	s.run.State = RunRunning
	for i := range s.run.Tasks {
		if s.run.Tasks[i].pending == 0 {
			s.dispatch(i, "")
		}
	}
}

func (s *stepper) started(in Started) {
	if t := s.run.Tasks[in.Task]; t.State == Ready && t.Attempts == in.Attempt {
		s.set(in.Task, Running, "")
	}
}

func (s *stepper) ended(in Ended) {
	t := &s.run.Tasks[in.Task]
	// A report may overtake the word that the attempt started.
	if t.State != Running && t.State != Ready || t.Attempts != in.Attempt {
		return
	}
	retry := s.plan.tasks[in.Task].retry
	switch {
	case in.Outcome == AttemptSucceeded:
		s.set(in.Task, Succeeded, "")
	case t.Stopping:
		s.set(in.Task, Stopped, t.Reason)
	case in.Outcome == AttemptLost && t.Lost+1 < mostLost:
		t.Lost++
		s.dispatch(in.Task, fmt.Sprintf("attempt %d was lost (%s), tried again", in.Attempt, in.Error))
	case in.Outcome == AttemptFailed && in.Attempt-t.Lost <= retry.Times:
		seed := s.run.Seed ^ uint64(in.Task)<<20 ^ uint64(in.Attempt)
		until := s.at.Add(pauseAfter(retry, in.Attempt-t.Lost, seed))
		s.set(in.Task, Cooling, fmt.Sprintf("attempt %d failed: %s", in.Attempt, in.Error))
		s.effects = append(s.effects, Arm{in.Task, in.Attempt, until})
	default:
		s.set(in.Task, Failed, in.Error)
	}
}

func (s *stepper) timerDue(in TimerDue) {
	if t := s.run.Tasks[in.Task]; t.State == Cooling && t.Attempts == in.Attempt {
		s.dispatch(in.Task, t.Reason)
	}
}

func (s *stepper) stop(in Stop) {
	if s.run.State.Settled() {
		return
	}
	reason := "stopped by " + in.By
	if in.Task != AllTasks {
		s.stopTask(in.Task, reason)
		return
	}
	s.run.Stopping = true
	for i := range s.run.Tasks {
		s.stopTask(i, reason)
	}
	s.settled = nil // all were told at once: nothing is left to be decided
}

func (s *stepper) stopTask(task int, reason string) {
	t := &s.run.Tasks[task]
	switch {
	case t.State.Settled() || t.Stopping:
	case t.State == Running:
		t.Stopping, t.Reason = true, reason
		s.changes = append(s.changes, Change{Task: task, From: Running, To: Running, Reason: reason})
		s.effects = append(s.effects, Cancel{task, t.Attempts})
	case t.State == Ready:
		s.set(task, Stopped, reason)
		s.effects = append(s.effects, Cancel{task, t.Attempts})
	default:
		s.set(task, Stopped, reason)
	}
}

// spread tells the tasks that come after a settled one, and those after them.
func (s *stepper) spread() {
	for len(s.settled) > 0 {
		from := s.settled[0]
		s.settled = s.settled[1:]
		for _, to := range s.plan.tasks[from].next {
			s.told(from, to.task, to.expected)
		}
	}
}

// told records with a task that one of those it comes after has settled, and
// decides about it as soon as the decision no longer depends on the others: a
// task is unreached at once when one of them went badly; skipped, because all
// that missed were skipped, or ready only when all have settled.
func (s *stepper) told(from, task int, expected outcomes) {
	t := &s.run.Tasks[task]
	t.pending--
	state := s.run.Tasks[from].State
	missed := !expected.has(state)
	t.missed = t.missed || missed
	switch {
	case t.State != Idle:
	case missed && bad(state):
		s.set(task, Unreached, fmt.Sprintf("it comes after %s, which %s", s.plan.Name(from), became(state)))
	case t.pending > 0:
	case t.missed:
		s.set(task, Skipped, fmt.Sprintf("it comes after %s, which was skipped", s.plan.Name(s.firstMissed(task))))
	default:
		s.dispatch(task, "")
	}
}

func (s *stepper) firstMissed(task int) int {
	for _, e := range s.plan.tasks[task].after {
		if !e.expected.has(s.run.Tasks[e.task].State) {
			return e.task
		}
	}
	return task
}

func became(state State) string {
	switch state {
	case Failed:
		return "failed"
	case Unreached:
		return "was not reached"
	case Stopped:
		return "was stopped"
	}
	return "was " + state.String()
}

// finish ends the run when all of its tasks have settled.
func (s *stepper) finish() {
	if s.run.unsettled > 0 || s.run.State.Settled() {
		return
	}
	switch {
	case s.run.Stopping && s.run.bad > 0:
		s.run.State = RunStopped
	case s.run.bad > 0:
		s.run.State = RunFailed
	default:
		s.run.State = RunSucceeded
	}
	s.effects = append(s.effects, Finish{})
}

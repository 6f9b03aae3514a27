package flow

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"wiselantern/core/definition"
)

// mostLost is how many attempts in a task may be lost with their workers before
// the task is given up: a task that brings its machine down must not do so for
// ever.
const mostLost = 5

// Judge decides conditions, routes and lists by what is known of the run: its
// params, its window and the results of tasks that have settled. The same run
// must get the same answers. An error fails the task.
type Judge interface {
	OnlyIf(task int) (bool, error)
	Route(task int) (chosen []int, err error)
	Items(task int) (values []string, err error)
}

// Step applies an input to the run. An input that no longer fits, such as a
// report that comes twice or late, changes nothing and has no effects. The judge
// may be nil if the plan has no conditions, routes and lists. Tasks that the run
// has gained are items, all at its end.
func (p *Plan) Step(r *Run, in Input, judge Judge) ([]Change, []Effect) {
	s := stepper{plan: p, run: r, judge: judge, at: in.moment()}
	switch in := in.(type) {
	case Choose:
		s.choosing(in)
	case Opened:
		s.opened()
	case Started:
		s.started(in)
	case Parked:
		s.parked(in)
	case Came:
		s.came(in)
	case Ended:
		s.ended(in)
	case TimerDue:
		s.timerDue(in)
	case Stop:
		s.stop(in)
	case Release:
		s.release(in)
	case Rerun:
		s.rerun(in)
	}
	for len(s.settled) > 0 || len(s.tending) > 0 {
		s.spread()
		s.tend()
	}
	s.finish()
	return s.changes, s.effects
}

type stepper struct {
	plan    *Plan
	run     *Run
	judge   Judge
	at      time.Time
	changes []Change
	effects []Effect
	settled []int  // tasks that have settled and whose successors have not been told
	tending []tend // what has to be looked after, for something changed in it
}

// tend is a task made for each item, or a resource, that has to be looked after.
type tend struct {
	resource bool
	number   int
}

func (s *stepper) lookAfter(t tend) {
	if !slices.Contains(s.tending, t) {
		s.tending = append(s.tending, t)
	}
}

func (s *stepper) tend() {
	for len(s.tending) > 0 {
		next := s.tending[0]
		s.tending = s.tending[1:]
		if next.resource {
			s.tendResource(next.number)
		} else {
			s.tendItems(next.number)
		}
	}
}

// set moves a task into a state.
func (s *stepper) set(task int, to State, reason string) {
	t := &s.run.Tasks[task]
	s.changes = append(s.changes, Change{Task: task, From: t.State, To: to, Reason: reason})
	s.plan.count(s.run, task, -1)
	t.State, t.Reason = to, reason
	s.plan.count(s.run, task, 1)
	if to.Settled() {
		t.Stopping, t.Cleared = false, false
	}
	if task >= s.plan.Len() {
		s.lookAfter(tend{false, t.Of})
		return
	}
	if !to.Settled() {
		return
	}
	s.settled = append(s.settled, task)
	if t.items.open > 0 { // it was to go on with some of its items
		for _, item := range s.run.ItemPlaces(task) {
			if s.run.Tasks[item].State == Idle {
				s.set(item, to, reason)
			}
		}
	}
	planned := &s.plan.tasks[task]
	for _, res := range planned.within {
		s.lookAfter(tend{true, res})
	}
	if planned.role == opening || planned.role == closing {
		s.lookAfter(tend{true, planned.of})
	}
}

// begin has an idle task do what it is there for, if its condition holds.
func (s *stepper) begin(task int, reason string) {
	planned := s.plan.planned(s.run, task)
	if planned.onlyIf != "" {
		holds, err := s.judge.OnlyIf(task)
		if err != nil {
			s.set(task, Failed, "its condition cannot be told: "+err.Error())
			return
		}
		if !holds {
			s.set(task, Skipped, "its condition is false: "+planned.onlyIf)
			return
		}
	}
	s.clear(task, reason)
}

// proceed has a task do what it is there for, now that nothing keeps it.
func (s *stepper) proceed(task int, reason string) {
	planned := s.plan.planned(s.run, task)
	s.run.Tasks[task].Cleared = false
	switch {
	case planned.each && task < s.plan.Len():
		s.expand(task, reason)
	case planned.route:
		s.choose(task)
	default:
		s.dispatch(task, reason)
	}
}

// choose settles a route.
func (s *stepper) choose(task int) {
	chosen, err := s.judge.Route(task)
	if err != nil {
		s.set(task, Failed, "its rules cannot be told: "+err.Error())
		return
	}
	names := make([]string, len(chosen))
	for i, to := range chosen {
		names[i] = s.plan.Name(to)
	}
	s.run.Tasks[task].Chosen = chosen
	if len(names) == 0 {
		s.set(task, Succeeded, "it chose nothing, because no rule holds")
		return
	}
	s.set(task, Succeeded, "it chose "+strings.Join(names, ", "))
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
	s.armDeadline()
	for i := range s.plan.tasks {
		if t := &s.run.Tasks[i]; t.pending == 0 || t.met > 0 {
			s.decide(i)
		}
	}
}

func (s *stepper) started(in Started) {
	if t := s.run.Tasks[in.Task]; t.State == Ready && t.Attempts == in.Attempt {
		s.set(in.Task, Running, "")
	}
}

func (s *stepper) parked(in Parked) {
	if t := s.run.Tasks[in.Task]; t.State == Ready && t.Attempts == in.Attempt {
		s.set(in.Task, Waiting, in.Reason)
		if timeout := s.plan.planned(s.run, in.Task).timeout; timeout > 0 {
			s.effects = append(s.effects, Arm{in.Task, in.Attempt, s.at.Add(timeout)})
		}
	}
}

func (s *stepper) came(in Came) {
	t := &s.run.Tasks[in.Task]
	if s.plan.tasks[in.Task].role == previous && !t.State.Settled() && !(t.State == Waiting && in.As == Waiting) {
		s.set(in.Task, in.As, in.Reason)
	}
}

func (s *stepper) ended(in Ended) {
	t := &s.run.Tasks[in.Task]
	// A report may overtake the word that the attempt started.
	if t.State != Running && t.State != Ready && t.State != Waiting || t.Attempts != in.Attempt {
		return
	}
	planned := s.plan.planned(s.run, in.Task)
	verdict := s.plan.Verdict(s.run, in)
	switch {
	case verdict == AttemptSucceeded:
		s.set(in.Task, Succeeded, "")
	case t.Stopping:
		s.set(in.Task, Stopped, t.Reason)
	case verdict == AttemptSkipped:
		s.set(in.Task, Skipped, in.Error)
	case verdict == AttemptLost && !planned.repeatable:
		s.set(in.Task, Held, fmt.Sprintf("attempt %d was lost (%s), and the task may not be repeated without a person's word", in.Attempt, in.Error))
	case verdict == AttemptLost && t.Lost+1 < mostLost:
		t.Lost++
		s.dispatch(in.Task, fmt.Sprintf("attempt %d was lost (%s), tried again", in.Attempt, in.Error))
	case verdict == AttemptFailed && t.attempt() <= planned.retry.Times:
		seed := s.run.Seed ^ uint64(in.Task)<<20 ^ uint64(in.Attempt)
		until := s.at.Add(pauseAfter(planned.retry, t.attempt(), seed))
		s.set(in.Task, Cooling, fmt.Sprintf("attempt %d failed: %s", in.Attempt, in.Error))
		s.effects = append(s.effects, Arm{in.Task, in.Attempt, until})
	default:
		s.set(in.Task, Failed, in.Error)
	}
}

func (s *stepper) armDeadline() {
	if s.plan.deadline > 0 {
		s.effects = append(s.effects, Arm{Task: AllTasks, At: s.at.Add(s.plan.deadline)})
	}
}

func (s *stepper) timerDue(in TimerDue) {
	if in.Task == AllTasks {
		if s.run.State == RunRunning {
			s.stopAll(fmt.Sprintf("the run was over its deadline of %s", definition.Length(s.plan.deadline)))
		}
		return
	}
	t := s.run.Tasks[in.Task]
	switch {
	case t.Attempts != in.Attempt:
	case t.State == Cooling:
		s.dispatch(in.Task, t.Reason)
	case t.State == Waiting && !t.Stopping:
		reason := fmt.Sprintf("it took longer than its timeout of %s", definition.Length(s.plan.planned(s.run, in.Task).timeout))
		outcome := AttemptFailed
		if s.plan.planned(s.run, in.Task).skips {
			outcome = AttemptSkipped
		}
		s.effects = append(s.effects, GiveUp{in.Task, in.Attempt, outcome, reason})
		s.ended(Ended{At: in.At, Task: in.Task, Attempt: in.Attempt, Outcome: outcome, Error: reason})
	}
}

// spread tells the tasks that come after those that have settled.
func (s *stepper) spread() {
	for len(s.settled) > 0 {
		from := s.settled[0]
		s.settled = s.settled[1:]
		for _, e := range s.plan.tasks[from].next {
			s.told(from, e)
		}
	}
}

// told records with a task that one of those it comes after has settled.
func (s *stepper) told(from int, e edge) {
	t := &s.run.Tasks[e.task]
	state := s.run.Tasks[from].State
	t.pending--
	if s.run.cameOut(from, e.task, edge{from, e.expected, e.routed}) {
		t.met++
	} else {
		t.badly = t.badly || bad(state)
	}
	s.decide(e.task)
}

// decide begins an idle task when its join holds. When the join can no longer
// hold, it settles the task as the definition says. Where it says nothing, the
// decision must not hang on the order in which the others settle: a task is
// unreached as soon as one of them went badly, and skipped only when all have
// settled and none did.
func (s *stepper) decide(task int) {
	t, planned := &s.run.Tasks[task], &s.plan.tasks[task]
	if t.State != Idle || t.Cleared || planned.role != work || s.run.State == RunQueued {
		return
	}
	j := planned.join
	switch {
	case t.met >= j.need && (t.pending == 0 || !j.wait):
		s.begin(task, "")
	case t.met+t.pending >= j.need:
		// It may still hold.
	case planned.otherwise == "skip":
		s.set(task, Skipped, s.missed(task))
	case planned.otherwise == "hold":
		s.set(task, Held, s.missed(task))
	case planned.otherwise == "fail":
		s.set(task, Failed, s.missed(task))
	case t.badly:
		s.set(task, Unreached, s.missed(task))
	case t.pending == 0:
		s.set(task, Skipped, s.missed(task))
	}
}

// missed says which of the tasks that a task comes after came out other than
// expected: the first that went badly, or else the first.
func (s *stepper) missed(task int) string {
	first := -1
	var expected outcomes
	for _, e := range s.plan.tasks[task].after {
		state := s.run.Tasks[e.task].State
		if state.Settled() && !s.run.cameOut(e.task, task, e) && (first < 0 || bad(state)) {
			first, expected = e.task, e.expected
			if bad(state) {
				break
			}
		}
	}
	state := s.run.Tasks[first].State
	if expected.has(state) {
		return fmt.Sprintf("the route %s did not choose it", s.plan.Name(first))
	}
	if expected.has(Succeeded) {
		return fmt.Sprintf("it comes after %s, which %s", s.plan.Name(first), became(state))
	}
	return fmt.Sprintf("it is there for when %s %s, and that %s", s.plan.Name(first), expected, became(state))
}

func (o outcomes) String() string {
	text := ""
	for s := Succeeded; s <= Stopped; s++ {
		if o.has(s) {
			if text != "" {
				text += " or "
			}
			text += became(s)
		}
	}
	return text
}

func became(state State) string {
	switch state {
	case Succeeded, Failed:
		return state.String()
	case Unreached:
		return "was not reached"
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

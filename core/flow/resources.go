package flow

import "fmt"

// clear lets a task whose join and condition hold begin as soon as its resources
// are open, and has those opened that are not.
func (s *stepper) clear(task int, reason string) {
	s.run.Tasks[task].Cleared = true
	missing := -1
	for _, res := range s.plan.tasks[s.plan.Node(s.run, task)].within {
		open := s.plan.resources[res].open
		if t := &s.run.Tasks[open]; t.State == Idle && !t.Cleared {
			s.clear(open, "")
		}
		switch state := s.run.Tasks[open].State; {
		case state == Succeeded:
		case state.Settled():
			s.set(task, Unreached, s.unopened(res))
			return
		case missing < 0:
			missing = res
		}
	}
	if missing < 0 {
		s.proceed(task, reason)
		return
	}
	s.set(task, Idle, fmt.Sprintf("waits until the resource %s is open", s.plan.resources[missing].name))
}

func (s *stepper) unopened(res int) string {
	resource := &s.plan.resources[res]
	state := s.run.Tasks[resource.open].State
	return fmt.Sprintf("it is within the resource %s, whose opening %s", resource.name, became(state))
}

// tendResource lets the tasks begin that waited for a resource to be opened, and
// closes it when all of its users have settled. What was never opened is not
// closed; what was opened only half, is: nobody knows how far it came.
func (s *stepper) tendResource(res int) {
	resource := &s.plan.resources[res]
	open, close := &s.run.Tasks[resource.open], &s.run.Tasks[resource.close]
	if s.run.inUse[res] > 0 {
		if open.State.Settled() {
			for _, user := range resource.users {
				if t := &s.run.Tasks[user]; t.State == Idle && t.Cleared {
					s.clear(user, "")
				}
			}
		}
		return
	}
	switch {
	case close.State != Idle || close.Cleared:
	case open.State == Idle:
		s.set(resource.open, Skipped, "no task needed it")
		s.set(resource.close, Skipped, "it was not opened")
	case !open.State.Settled():
		// It is closed when its opening has come to an end.
	case open.Attempts > open.Before:
		s.clear(resource.close, "")
	default:
		s.set(resource.close, Skipped, "it was not opened")
	}
}

// reopen lets a resource that was closed be opened once more when it is needed.
func (s *stepper) reopen(res int, reason string) {
	resource := &s.plan.resources[res]
	for _, outer := range s.plan.tasks[resource.open].within {
		s.reopen(outer, reason)
	}
	if s.run.Tasks[resource.close].State.Settled() {
		s.idle(resource.open, reason)
		s.idle(resource.close, reason)
	}
}

// Closing names a resource of the task that is just being closed, so that nothing
// can begin within it.
func (p *Plan) Closing(r *Run, task int) (resource string, is bool) {
	for _, res := range p.tasks[p.Node(r, task)].within {
		close := p.resources[res].close
		if state := r.Tasks[close].State; state != Idle && !state.Settled() {
			return p.resources[res].name, true
		}
		if outer, is := p.Closing(r, close); is {
			return outer, true
		}
	}
	return "", false
}

// Previous are the nodes that stand for tasks in the run of the window before.
func (p *Plan) Previous() []int { return p.previous }

// Expected is a state that the first task after the node expects of it.
func (p *Plan) Expected(node int) State {
	for _, e := range p.tasks[node].next {
		return e.expected.first()
	}
	return Succeeded
}

// IsPrevious tells whether the node stands for a task in the run of the window
// before.
func (p *Plan) IsPrevious(node int) bool { return p.tasks[node].role == previous }

// IsOpening tells whether the node opens a resource.
func (p *Plan) IsOpening(node int) bool { return p.tasks[node].role == opening }

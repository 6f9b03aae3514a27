package flow

import (
	"slices"
)

func (s *stepper) choosing(in Choose) {
	if s.run.State != RunQueued {
		return
	}
	before := make([]bool, s.plan.Len())
	for queue := slices.Clone(in.Tasks); len(queue) > 0; queue = queue[1:] {
		for _, e := range s.plan.tasks[queue[0]].after {
			if !before[e.task] {
				before[e.task] = true
				queue = append(queue, e.task)
			}
		}
	}
	for i := range s.plan.tasks {
		planned := &s.plan.tasks[i]
		if slices.Contains(in.Tasks, i) || planned.role != work || s.run.Tasks[i].State != Idle {
			continue
		}
		as := Skipped
		if before[i] {
			as = Succeeded
			for _, e := range slices.Backward(planned.next) {
				if slices.Contains(in.Tasks, e.task) {
					as = e.expected.first()
					if e.routed {
						s.run.Tasks[i].Chosen = append(s.run.Tasks[i].Chosen, e.task)
					}
				}
			}
		}
		s.set(i, as, "left out, as asked by "+in.By)
	}
}

// first is the first of the states, in their order.
func (o outcomes) first() State {
	for s := Succeeded; s < Stopped; s++ {
		if o.has(s) {
			return s
		}
	}
	return Stopped
}

func (s *stepper) release(in Release) {
	if s.run.State.Settled() || s.run.Tasks[in.Task].State != Held {
		return
	}
	reason := "released by " + in.By
	switch {
	case in.As != Ready:
		s.set(in.Task, in.As, reason)
	case in.Task >= s.plan.Len():
		s.set(in.Task, Idle, reason)
		s.queueItem(in.Task)
	default:
		s.begin(in.Task, reason)
	}
}

// rerun makes tasks idle again and readies those that may start. The run goes
// on, also if it had ended.
func (s *stepper) rerun(in Rerun) {
	if s.run.State == RunQueued {
		return
	}
	reason := "to be made again, asked by " + in.By
	again := in.Tasks[:0:0] // nodes
	for _, task := range in.Tasks {
		node := s.plan.Node(s.run, task)
		_, isClosing := s.plan.Closing(s.run, node)
		if t := &s.run.Tasks[task]; !t.State.Settled() || isClosing || s.plan.tasks[node].role == opening || s.plan.tasks[node].role == previous {
			continue
		}
		if task != node && !slices.Contains(in.Tasks, node) && s.plan.Current(s.run, task) && !s.run.Tasks[node].Stopping {
			if parent := &s.run.Tasks[node]; parent.State.Settled() {
				s.set(node, Idle, "some of its items are to be made again, asked by "+in.By)
				parent.Cleared = true
				again = append(again, node)
			}
			s.idle(task, reason)
			s.queueItem(task)
		}
		if task == node {
			if s.plan.tasks[node].each {
				s.forgetItems(node)
			}
			s.idle(task, reason)
			again = append(again, node)
		}
	}
	if len(again) == 0 {
		return
	}
	for _, task := range again {
		for _, res := range s.plan.tasks[task].within {
			s.reopen(res, reason)
		}
		for _, e := range s.plan.tasks[task].after { // the run before may have been made again too
			if s.plan.tasks[e.task].role == previous && s.run.Tasks[e.task].State.Settled() {
				s.idle(e.task, reason)
				again = append(again, e.task)
			}
		}
	}
	s.run.State, s.run.Stopping = RunRunning, false
	s.armDeadline()
	for _, task := range again {
		s.plan.recount(s.run, task)
		for _, e := range s.plan.tasks[task].next {
			s.plan.recount(s.run, e.task)
		}
	}
	for _, task := range again {
		switch planned := &s.plan.tasks[task]; {
		case planned.role == closing:
			s.lookAfter(tend{true, planned.of})
		case s.run.Tasks[task].Cleared:
			s.clear(task, s.run.Tasks[task].Reason)
		default:
			s.decide(task)
		}
	}
}

// idle makes a task idle again; the attempts that it had do not count any more.
func (s *stepper) idle(task int, reason string) {
	t := &s.run.Tasks[task]
	t.Before, t.Lost, t.Cleared = t.Attempts, 0, false
	s.set(task, Idle, reason)
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
	s.stopAll(reason)
}

// stopAll ends everything but the closing of resources: what was opened is
// closed, whatever happened. What has not been opened is settled with the tasks
// that it was for.
func (s *stepper) stopAll(reason string) {
	for i := range s.run.Tasks {
		switch state := s.run.Tasks[i].State; s.plan.planned(s.run, i).role {
		case closing:
			if state != Held {
				continue
			}
		case opening:
			if state == Idle {
				continue
			}
		}
		s.stopTask(i, reason)
	}
}

func (s *stepper) stopTask(task int, reason string) {
	t := &s.run.Tasks[task]
	switch {
	case t.State.Settled() || t.Stopping:
	case s.plan.planned(s.run, task).role == previous:
		s.set(task, Stopped, reason)
	case t.State == Running || t.State == Waiting:
		t.Stopping, t.Reason = true, reason
		s.changes = append(s.changes, Change{Task: task, From: t.State, To: t.State, Reason: reason})
		if s.plan.tasks[s.plan.Node(s.run, task)].each && task < s.plan.Len() {
			s.stopItems(task, reason)
			return
		}
		s.effects = append(s.effects, Cancel{task, t.Attempts})
	case t.State == Ready:
		s.set(task, Stopped, reason)
		s.effects = append(s.effects, Cancel{task, t.Attempts})
	default:
		s.set(task, Stopped, reason)
	}
}

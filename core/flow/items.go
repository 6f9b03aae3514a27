package flow

import (
	"fmt"
	"slices"
)

// items is what a task made for each item knows of its items.
type items struct {
	places []int // every item that there ever was, by its place in the list
	queue  []int // those that wait for their turn, in order; one that is idle no more is passed over

	// Of those that are in the list now:
	open    int // have not settled
	going   int // neither idle, held nor settled
	failed  int // failed
	stopped int // were stopped
	skipped int // were skipped
}

func (i *items) count(state State, by int) {
	if !state.Settled() {
		i.open += by
	}
	switch state {
	case Ready, Running, Waiting, Cooling:
		i.going += by
	case Failed:
		i.failed += by
	case Stopped:
		i.stopped += by
	case Skipped:
		i.skipped += by
	}
}

// expand makes the items of a task, or, if only some of them are to be made
// again, goes on with those.
func (s *stepper) expand(task int, reason string) {
	if s.run.Tasks[task].Items > 0 {
		s.set(task, Running, reason)
		s.lookAfter(tend{false, task})
		return
	}
	values, err := s.judge.Items(task)
	switch {
	case err != nil:
		s.set(task, Failed, "its list cannot be told: "+err.Error())
		return
	case len(values) == 0:
		s.set(task, Succeeded, "its list is empty")
		return
	}
	s.run.Tasks[task].Items = len(values)
	s.set(task, Running, reason)
	for i, value := range values {
		places := s.run.Tasks[task].items.places
		if i < len(places) {
			s.run.Tasks[places[i]].Value = value
			s.plan.count(s.run, places[i], 1) // it is in the list again
			s.idle(places[i], "")
			s.queueItem(places[i])
			continue
		}
		place := len(s.run.Tasks)
		s.run.Tasks = append(s.run.Tasks, Task{Of: task, Item: i, Value: value})
		s.run.Tasks[task].items.places = append(places, place)
		s.plan.count(s.run, place, 1)
		s.queueItem(place)
	}
	s.lookAfter(tend{false, task})
}

// forgetItems takes all items out of the list of a task.
func (s *stepper) forgetItems(task int) {
	t := &s.run.Tasks[task]
	t.Items = 0
	t.items = items{places: t.items.places}
}

// queueItem has an item wait for its turn.
func (s *stepper) queueItem(item int) {
	of := &s.run.Tasks[s.run.Tasks[item].Of].items
	if at, found := slices.BinarySearch(of.queue, item); !found {
		of.queue = slices.Insert(of.queue, at, item)
	}
}

// tendItems begins as many items as may go at once, and settles the task when
// all of them have settled.
func (s *stepper) tendItems(task int) {
	t, planned := &s.run.Tasks[task], &s.plan.tasks[task]
	if t.State != Running {
		return
	}
	if planned.stopOnFirst && t.items.failed > 0 && t.items.open > 0 && !t.Stopping {
		s.stopTask(task, s.plan.Label(s.run, s.firstFailed(task))+" failed, and that stops the others")
	}
	for len(t.items.queue) > 0 && !t.Stopping && (planned.atOnce == 0 || t.items.going < planned.atOnce) {
		item := t.items.queue[0]
		t.items.queue = t.items.queue[1:]
		if s.run.Tasks[item].State == Idle && s.plan.Current(s.run, item) {
			s.dispatch(item, s.run.Tasks[item].Reason)
		}
	}
	if t.items.open > 0 {
		return
	}
	switch {
	case t.items.failed > 0:
		first := s.firstFailed(task)
		s.set(task, Failed, fmt.Sprintf("%d of its %d items failed; the first was %s: %s", t.items.failed, t.Items, s.plan.Label(s.run, first), s.run.Tasks[first].Reason))
	case t.Stopping:
		s.set(task, Stopped, t.Reason)
	case t.items.stopped > 0:
		s.set(task, Stopped, fmt.Sprintf("%d of its %d items were stopped", t.items.stopped, t.Items))
	case t.items.skipped == t.Items:
		s.set(task, Skipped, "all of its items were skipped")
	default:
		s.set(task, Succeeded, "")
	}
}

func (s *stepper) firstFailed(task int) int {
	for _, item := range s.run.ItemPlaces(task) {
		if s.run.Tasks[item].State == Failed {
			return item
		}
	}
	return task
}

func (s *stepper) stopItems(task int, reason string) {
	for _, item := range s.run.ItemPlaces(task) {
		s.stopTask(item, reason)
	}
	s.lookAfter(tend{false, task})
}

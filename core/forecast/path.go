package forecast

import (
	"slices"
	"time"
)

// Task is what is known of one task of a run.
type Task struct {
	After   []int // those that it comes after
	Settled bool
	Started time.Time     // zero if it has not
	Ended   time.Time     // zero if it has not
	Usual   time.Duration // the median; 0 if nothing is known
}

// Rest is what is still to come of a run.
type Rest struct {
	End  time.Time     // when the run should end, as far as is known
	Path []int         // the chain of tasks that decides it, first to last
	Tail time.Duration // what comes after the tasks that are going, at least
}

// Expect tells when a run should end if each of its tasks takes as long as it
// usually does, and one that has taken longer ends now. The tasks may be in any
// order; a circle among them is not followed.
func Expect(tasks []Task, now time.Time) Rest {
	ends := make([]time.Time, len(tasks))
	from := make([]int, len(tasks))
	order := sorted(tasks)
	last := -1
	for _, i := range order {
		t := tasks[i]
		from[i] = -1
		switch {
		case t.Settled:
			ends[i] = t.Ended
			continue
		case !t.Started.IsZero():
			ends[i] = t.Started.Add(t.Usual)
			if ends[i].Before(now) {
				ends[i] = now
			}
		default:
			begin := now
			for _, before := range t.After {
				if ends[before].After(begin) {
					begin, from[i] = ends[before], before
				}
			}
			ends[i] = begin.Add(t.Usual)
		}
		if last < 0 || ends[i].After(ends[last]) {
			last = i
		}
	}
	if last < 0 {
		return Rest{End: now}
	}
	rest := Rest{End: ends[last]}
	for i := last; i >= 0; i = from[i] {
		rest.Path = append(rest.Path, i)
	}
	slices.Reverse(rest.Path)
	rest.Tail = tail(tasks, order)
	return rest
}

// tail is the longest chain of tasks that have not begun.
func tail(tasks []Task, order []int) (longest time.Duration) {
	chains := make([]time.Duration, len(tasks))
	for _, i := range order {
		t := tasks[i]
		if t.Settled || !t.Started.IsZero() {
			continue
		}
		for _, before := range t.After {
			chains[i] = max(chains[i], chains[before])
		}
		chains[i] += t.Usual
		longest = max(longest, chains[i])
	}
	return longest
}

// Critical is the chain of tasks that decided when a run ended, first to last:
// from the task that ended last back, each time to the one among those it came
// after that ended last. Tasks that never began are not in it.
func Critical(tasks []Task) (path []int) {
	last := -1
	for i, t := range tasks {
		if !t.Started.IsZero() && !t.Ended.IsZero() && (last < 0 || t.Ended.After(tasks[last].Ended)) {
			last = i
		}
	}
	seen := make([]bool, len(tasks))
	for last >= 0 && !seen[last] {
		seen[last] = true
		path = append(path, last)
		next := -1
		for _, before := range tasks[last].After {
			// A task made again may have begun before one that it comes after ended.
			if b := tasks[before]; !b.Started.IsZero() && !b.Ended.IsZero() && (next < 0 || b.Ended.After(tasks[next].Ended)) {
				next = before
			}
		}
		last = next
	}
	slices.Reverse(path)
	return path
}

// sorted lists tasks such that each comes behind those that it comes after.
func sorted(tasks []Task) (order []int) {
	left := make([]int, len(tasks))
	next := make([][]int, len(tasks))
	for i, t := range tasks {
		left[i] = len(t.After)
		for _, before := range t.After {
			next[before] = append(next[before], i)
		}
		if left[i] == 0 {
			order = append(order, i)
		}
	}
	for done := 0; done < len(order); done++ {
		for _, i := range next[order[done]] {
			if left[i]--; left[i] == 0 {
				order = append(order, i)
			}
		}
	}
	return order
}

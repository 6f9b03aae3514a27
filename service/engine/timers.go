package engine

import (
	"container/heap"
	"time"
)

// timer is a moment at which something is to be done: the end of a task's
// pause, or, with run 0, a due moment of a workflow. Timers are rows elsewhere;
// one that no longer fits when it is due is ignored.
type timer struct {
	at            time.Time
	run           int64
	task, attempt int
	workflow      int64
	start         string // of the workflow: the one that has gathered for long enough
	thing         int    // of the attempt: the place from 1 of what it waits for; 0 is its timeout
}

// timers is a heap, the earliest first.
type timers []timer

func (t timers) Len() int           { return len(t) }
func (t timers) Less(i, j int) bool { return t[i].at.Before(t[j].at) }
func (t timers) Swap(i, j int)      { t[i], t[j] = t[j], t[i] }
func (t *timers) Push(x any)        { *t = append(*t, x.(timer)) }
func (t *timers) Pop() any {
	last := (*t)[len(*t)-1]
	*t = (*t)[:len(*t)-1]
	return last
}

func (t *timers) add(one timer) { heap.Push(t, one) }

func (t timers) next() (time.Time, bool) {
	if len(t) == 0 {
		return time.Time{}, false
	}
	return t[0].at, true
}

// due takes out those whose moment has come.
func (t *timers) due(now time.Time) (out []timer) {
	for len(*t) > 0 && !(*t)[0].at.After(now) && len(out) < mostInBatch {
		out = append(out, heap.Pop(t).(timer))
	}
	return out
}

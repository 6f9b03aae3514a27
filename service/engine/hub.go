package engine

import "sync"

// Hub wakes those who follow what happens. It carries no content: they read
// the records from where they were.
type Hub struct {
	mu   sync.Mutex
	wake map[int64]chan struct{} // by run; AllRuns for those who follow all
}

// mostFollowed bounds the memory for followers: beyond it all are woken once.
const mostFollowed = 10_000

// AllRuns stands for every run.
const AllRuns int64 = 0

func newHub() *Hub { return &Hub{wake: map[int64]chan struct{}{}} }

// Changes is closed at the next commit that changes the run, or anything.
func (h *Hub) Changes(run int64) <-chan struct{} {
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.wake) > mostFollowed { // most of them are of readers that are gone
		for other := range h.wake {
			h.close(other)
		}
	}
	ch := h.wake[run]
	if ch == nil {
		ch = make(chan struct{})
		h.wake[run] = ch
	}
	return ch
}

// tell wakes those who follow the runs, and those who follow all.
func (h *Hub) tell(runs map[int64]bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.wake) == 0 {
		return
	}
	h.close(AllRuns)
	for run := range runs {
		h.close(run)
	}
}

func (h *Hub) close(run int64) {
	if ch := h.wake[run]; ch != nil {
		close(ch)
		delete(h.wake, run)
	}
}

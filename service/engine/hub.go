package engine

import "sync"

// Hub wakes those who follow what happens. It carries no content: they read
// the records from where they were.
type Hub struct {
	mu   sync.Mutex
	wake chan struct{}
}

func newHub() *Hub { return &Hub{wake: make(chan struct{})} }

// Changes is closed at the next commit that changes the state of anything.
func (h *Hub) Changes() <-chan struct{} {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.wake
}

func (h *Hub) tell() {
	h.mu.Lock()
	defer h.mu.Unlock()
	close(h.wake)
	h.wake = make(chan struct{})
}

package engine

import (
	"context"
	"sync"

	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// notes are lines for the logs of parked attempts, written one after the other by
// one goroutine: the engine's loop does not wait for the disk of the logs.
type notes struct {
	mu    sync.Mutex
	lines []note
	wake  chan struct{}
	next  map[dispatch.AttemptID]int // of logs that were written to: the number of the next line
}

type note struct {
	of   dispatch.AttemptID
	line store.Line
	over bool // nothing more comes
}

// mostNotes bounds what waits to be written: beyond it lines are dropped, for they
// are there to be looked at and nothing hangs on them.
const mostNotes = 100_000

func newNotes() *notes {
	return &notes{wake: make(chan struct{}, 1), next: map[dispatch.AttemptID]int{}}
}

func (n *notes) add(one note) {
	n.mu.Lock()
	if len(n.lines) < mostNotes {
		n.lines = append(n.lines, one)
	}
	n.mu.Unlock()
	select {
	case n.wake <- struct{}{}:
	default:
	}
}

// writeNotes writes until ctx is done, and then what is left.
func (e *Engine) writeNotes(ctx context.Context) {
	for {
		e.notes.mu.Lock()
		lines := e.notes.lines
		e.notes.lines = nil
		e.notes.mu.Unlock()
		e.writeSome(lines)
		select {
		case <-e.notes.wake:
		case <-ctx.Done():
			if e.notes.mu.Lock(); len(e.notes.lines) == 0 {
				e.notes.mu.Unlock()
				return
			}
			e.notes.mu.Unlock()
		}
	}
}

// writeSome writes lines, those of one log in one chunk.
func (e *Engine) writeSome(lines []note) {
	by := map[dispatch.AttemptID][]store.Line{}
	var order []dispatch.AttemptID
	for _, n := range lines {
		if n.over {
			continue
		}
		if by[n.of] == nil {
			order = append(order, n.of)
		}
		by[n.of] = append(by[n.of], n.line)
	}
	for _, id := range order {
		of := store.LogOf{Run: id.Run, Task: id.Task, Attempt: id.Attempt}
		first, known := e.notes.next[id]
		if !known {
			var err error
			if first, err = e.store.Logs.Count(context.Background(), of); err != nil {
				e.log.Error("what was seen for a wait cannot be kept", "error", err)
				continue
			}
		}
		if err := e.store.Logs.Append(context.Background(), store.Chunk{Of: of, First: first, Lines: by[id]}); err != nil {
			e.log.Error("what was seen for a wait cannot be kept", "error", err)
			continue
		}
		e.notes.next[id] = first + len(by[id])
	}
	for _, n := range lines {
		if n.over {
			delete(e.notes.next, n.of)
		}
	}
}

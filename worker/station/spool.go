package station

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// spool keeps what tasks print on the worker's machine until the service has it.
type spool struct {
	logs    *store.Logs
	courier *dispatch.Courier
	log     *slog.Logger
	wake    chan struct{}
	stop    context.CancelFunc
	group   sync.WaitGroup

	mu      sync.Mutex
	unsent  map[store.LogOf]int // chunks
	changed chan struct{}       // closed when one was sent
}

func openSpool(ctx context.Context, name string, c *dispatch.Courier, log *slog.Logger) (*spool, error) {
	logs, err := store.OpenLogs(ctx, name)
	if err != nil {
		return nil, err
	}
	running, stop := context.WithCancel(context.Background())
	s := &spool{logs: logs, courier: c, log: log, wake: make(chan struct{}, 1), stop: stop, unsent: map[store.LogOf]int{}, changed: make(chan struct{})}
	s.wake <- struct{}{} // for what was left
	s.group.Go(func() { s.send(running) })
	return s, nil
}

func (s *spool) keep(ctx context.Context, chunk store.Chunk) error {
	s.mu.Lock()
	s.unsent[chunk.Of]++
	s.mu.Unlock()
	if err := s.logs.Append(ctx, chunk); err != nil {
		s.gone(chunk.Of)
		return err
	}
	select {
	case s.wake <- struct{}{}:
	default:
	}
	return nil
}

// gone notes that a chunk is no longer to be sent.
func (s *spool) gone(of store.LogOf) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.unsent[of]--; s.unsent[of] <= 0 {
		delete(s.unsent, of)
	}
	close(s.changed)
	s.changed = make(chan struct{})
}

// send sends what there is, again and again until it is taken.
func (s *spool) send(ctx context.Context) {
	for {
		select {
		case <-s.wake:
		case <-ctx.Done():
			return
		}
		for ctx.Err() == nil {
			chunk, err := s.logs.Oldest(ctx)
			if err == nil && chunk == nil {
				break
			}
			if err == nil {
				err = s.courier.Deliver(ctx, dispatch.LogPiece{AttemptID: dispatch.AttemptID{Run: chunk.Of.Run, Task: chunk.Of.Task, Attempt: chunk.Of.Attempt}, First: chunk.First, Count: chunk.Count, Data: chunk.Data})
			}
			if err == nil {
				err = s.logs.Drop(ctx, *chunk)
			}
			if err != nil {
				s.log.Debug("lines of a log cannot be sent now", "error", err)
				select {
				case <-time.After(time.Second):
				case <-ctx.Done():
				}
				continue
			}
			s.gone(chunk.Of)
		}
	}
}

// sent returns when nothing of that log is still to be sent.
func (s *spool) sent(ctx context.Context, of store.LogOf) error {
	for {
		s.mu.Lock()
		left, changed := s.unsent[of], s.changed
		s.mu.Unlock()
		if left == 0 {
			return nil
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return fmt.Errorf("its log is not sent: %w", ctx.Err())
		}
	}
}

func (s *spool) close() error {
	s.stop()
	s.group.Wait()
	return s.logs.Close()
}

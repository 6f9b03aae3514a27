// Package station is the life of a worker: its home, its connection to the service,
// the logs that it keeps, and when it ends.
//
// It may import worker, service/dispatch and service/store. What it keeps true: a
// worker without a connection goes on with what it has, and tells later.
package station

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"time"

	"github.com/nats-io/nats.go"

	"wiselantern/machine"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
	"wiselantern/worker"
)

// Options shape a worker's life.
type Options struct {
	Name    string // in records; dispatch.CheckName
	Version string
	Dir     string // an absolute path; it holds parcels, homes and, for a worker of another machine, logs that are to be sent
	Slots   int
	Queues  []string
	Labels  map[string]string
	Local   bool                                                          // it belongs to the data folder of a service on this machine
	Logs    *store.Logs                                                   // where it writes logs by itself; nil for one of another machine, which sends them
	Grown   func(id dispatch.AttemptID)                                   // a log has grown; nil for the service to be told
	Parcels func(ctx context.Context, name string) (io.ReadCloser, error) // nil for the service to be asked
	Conn    *nats.Conn
	Log     *slog.Logger
}

// Station is a worker that lives.
type Station struct {
	Options
	home    *worker.Home
	courier *dispatch.Courier
	hands   *worker.Worker
	since   time.Time
	spool   *spool
	cleared chan struct{} // closed when what earlier workers left is recorded
}

// Begin moves into a home and says hello, but takes no order yet.
func Begin(o Options) (_ *Station, err error) {
	s := &Station{Options: o, since: time.Now(), cleared: make(chan struct{})}
	if err := os.MkdirAll(o.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("the worker's folder cannot be made: %w; choose another with --dir", err)
	}
	if s.home, err = worker.Move(o.Dir); err != nil {
		return nil, err
	}
	if s.hands, err = worker.New(nil, worker.Options{Name: o.Name, Dir: o.Dir, Home: s.home.Dir, Slots: o.Slots, Fetch: s.fetch, Log: o.Log}); err != nil {
		return nil, err
	}
	left, err := s.look(true)
	if err != nil {
		return nil, err
	}
	s.courier, err = dispatch.NewCourier(o.Conn, dispatch.CourierOptions{Hello: s.hello, Keep: s.keep, Words: o.Log, Before: s.sent, Expect: expected(left), Estate: estate(left)})
	if err != nil {
		return nil, fmt.Errorf("the worker cannot speak to the message server: %w", err)
	}
	s.hands.Speak(s.courier)
	if s.Logs == nil {
		if s.spool, err = openSpool(context.Background(), filepath.Join(o.Dir, "logs.db"), s.courier, o.Log); err != nil {
			return nil, err
		}
	}
	go func() {
		defer close(s.cleared)
		s.recover(left)
	}()
	return s, nil
}

// look looks for what workers of before have left, at the first time also those that
// had no homes yet.
func (s *Station) look(first bool) (left []worker.Left, err error) {
	for _, n := range worker.Neighbours(s.Dir, s.home.Instance) {
		if n.PID != 0 || n.Instance == "" && !first {
			continue
		}
		l, err := s.hands.Look(n.Dir)
		if err != nil {
			return left, err
		}
		left = append(left, l)
	}
	return left, nil
}

func expected(left []worker.Left) (ids []dispatch.AttemptID) {
	for _, l := range left {
		ids = append(ids, l.IDs()...)
	}
	return ids
}

// estate is what the service is told of the workers before this one.
func estate(left []worker.Left) (e dispatch.Estate) {
	for _, l := range left {
		if l.Instance() != "" {
			e.Of = append(e.Of, l.Instance())
		}
	}
	e.Begun = expected(left)
	return e
}

func (s *Station) recover(left []worker.Left) {
	for _, l := range left {
		if err := s.hands.Recover(context.Background(), l); err != nil {
			s.Log.Warn("what an earlier worker has left cannot be cleared away", "error", err)
		}
	}
}

// Cleared is closed when all that earlier workers left is recorded.
func (s *Station) Cleared() <-chan struct{} { return s.cleared }

// Welcome is closed when the service has answered.
func (s *Station) Welcome() <-chan struct{} { return s.courier.Welcome() }

func (s *Station) hello() dispatch.Hello {
	h := dispatch.Hello{Name: s.Name, Instance: s.home.Instance, Version: s.Version, PID: os.Getpid(), Local: s.Local, Since: s.since.UTC(), Queues: s.Queues, Labels: s.Labels, Slots: s.Slots, CPUs: runtime.NumCPU()}
	h.Load = machine.Load()
	h.Memory, h.Total = machine.Memory()
	h.Faults = s.faults()
	return h
}

func (s *Station) fetch(ctx context.Context, name string) (io.ReadCloser, error) {
	if s.Parcels != nil {
		return s.Parcels(ctx, name)
	}
	return s.courier.Fetch(ctx, name)
}

// keep keeps what a task prints: where the service reads it, or on this machine until
// it is sent.
func (s *Station) keep(ctx context.Context, m dispatch.Log) error {
	chunk := store.Chunk{Of: store.LogOf{Run: m.Run, Task: m.Task, Attempt: m.Attempt}, First: m.First, Lines: m.Lines}
	if s.spool != nil {
		return s.spool.keep(ctx, chunk)
	}
	if err := s.Logs.Append(ctx, chunk); err != nil {
		return err
	}
	if s.Grown != nil {
		s.Grown(m.AttemptID)
	} else {
		s.courier.Logged(m.AttemptID)
	}
	return nil
}

// sent returns when the whole log of an attempt is where the service reads it.
func (s *Station) sent(ctx context.Context, id dispatch.AttemptID) error {
	if s.spool == nil {
		return nil
	}
	return s.spool.sent(ctx, store.LogOf{Run: id.Run, Task: id.Task, Attempt: id.Attempt})
}

// Run takes orders until Drain is called, and returns when all that was taken has
// ended and is recorded.
func (s *Station) Run() {
	s.hands.Run(context.Background())
	select {
	case <-s.cleared:
	case <-s.hands.Stopping():
	}
}

// Drain takes no more orders.
func (s *Station) Drain() { s.courier.Close() }

// GiveUp ends what is executed; it is made again.
func (s *Station) GiveUp() { s.hands.GiveUp() }

// End ends the conversation and leaves the home, once Run has returned.
func (s *Station) End() error {
	s.courier.End()
	var err error
	if s.spool != nil {
		err = s.spool.close()
	}
	err = errors.Join(err, s.hands.Close())
	s.home.Leave()
	return err
}

// aloneFor is how long a worker of this machine stays whose service is gone, and that
// has nothing to do.
const aloneFor = 10 * time.Second

// Live is the life of a worker in a process of its own, which with its tasks is ended
// before others when memory runs out. It takes no more orders when
// ctx is done, and gives up what it has when urge is closed; it ends when it has
// nothing left then. One that belongs to a service which is gone ends too when it has
// nothing to do.
func Live(ctx context.Context, urge <-chan struct{}, o Options) error {
	if err := machine.YieldMemory(); err != nil {
		o.Log.Debug("when memory runs out, tasks are not ended before the service", "error", err)
	}
	s, err := Begin(o)
	if err != nil {
		return err
	}
	living, ended := context.WithCancel(context.Background())
	var group sync.WaitGroup
	group.Go(func() {
		every := time.NewTicker(time.Second)
		defer every.Stop()
		drain := ctx.Done()
		for {
			executed, told := s.courier.Hands()
			alone := o.Local && time.Since(latest(s.since, s.courier.Heard())) > aloneFor
			if executed == 0 && (alone || s.courier.Leaving() && told == 0) {
				s.Drain()
				s.GiveUp() // of reports that nobody hears: they are on disk
			}
			select {
			case <-living.Done():
				return
			case <-drain:
				drain = nil
				s.courier.Leave()
			case <-urge:
				urge = nil
				s.courier.Leave()
				s.Drain()
				s.GiveUp()
			case <-every.C:
				s.adoptOthers()
			}
		}
	})
	s.Run()
	ended()
	group.Wait()
	return s.End()
}

func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// adoptOthers reports for workers of the same folder that have ended since.
func (s *Station) adoptOthers() {
	left, err := s.look(false)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		s.Log.Warn("what another worker has left cannot be looked at", "error", err)
	}
	for _, l := range left {
		s.courier.ExpectAlso(l.IDs())
	}
	if len(left) > 0 {
		go s.recover(left)
	}
}

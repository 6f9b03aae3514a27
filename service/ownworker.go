package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"syscall"
	"time"

	"github.com/nats-io/nats.go"

	"wiselantern/service/dispatch"
	"wiselantern/worker"
	"wiselantern/worker/station"
)

// ownWorker is the worker of the service's own machine.
type ownWorker interface {
	run()
	leave(endTasks bool)
}

// begin starts the own worker, or finds the one that lives already, and returns when
// all that live have said what they execute.
func (x *exchange) begin(ctx context.Context) (ownWorker, error) {
	if len(x.options.Worker) > 0 {
		own := &process{exchange: x, ended: make(chan struct{})}
		return own, own.begin(ctx)
	}
	var conn *nats.Conn
	var err error
	if x.server != nil {
		conn, err = x.server.Connect(nats.Name("worker"))
	} else {
		conn, err = Join(x.options.Messages, x.options.Log, nats.Name("worker"))
	}
	if err != nil {
		return nil, err
	}
	s, err := station.Begin(station.Options{Name: x.name, Version: x.options.Version, Dir: WorkerDir(x.records.Dir()), Slots: x.options.Slots, Queues: []string{dispatch.DefaultQueue}, Local: true,
		Logs: x.records.Logs, Grown: func(dispatch.AttemptID) {}, Parcels: x.parcels.Fetch, Conn: conn, Log: x.options.Log})
	if err != nil {
		conn.Close()
		return nil, err
	}
	own := &within{station: s, conn: conn, log: x.options.Log, done: make(chan struct{})}
	select {
	case <-s.Welcome():
	case <-ctx.Done():
	}
	select {
	case <-s.Cleared():
	case <-ctx.Done():
	}
	return own, nil
}

// within is the own worker in the process of the service.
type within struct {
	station *station.Station
	conn    *nats.Conn
	log     *slog.Logger
	done    chan struct{}
}

func (w *within) run() {
	go func() {
		defer close(w.done)
		w.station.Run()
	}()
}

func (w *within) leave(bool) {
	w.station.Drain()
	select {
	case <-w.done:
	case <-time.After(patience):
		w.log.Info("stopping: attempts still being executed are given up; they are made again at the next start")
		w.station.GiveUp()
		<-w.done
	}
	if err := w.station.End(); err != nil {
		w.log.Warn("the worker could not end well", "error", err)
	}
	w.conn.Close()
}

// process is the own worker as a process of its own. It outlives the service while it
// has something to do.
type process struct {
	*exchange
	mu       sync.Mutex
	instance string
	pid      int
	leaving  bool
	ended    chan struct{} // closed when nobody watches any more
}

const (
	helloPatience = 10 * time.Second      // for a living worker to say hello
	longestPause  = 5 * time.Second       // before a worker that ended is started again
	firstPause    = 50 * time.Millisecond // the same, where the one before lived for a minute
)

// begin finds the workers that live, keeps the one that is of this very program, and
// starts one if there is none.
func (p *process) begin(ctx context.Context) error {
	if err := os.MkdirAll(WorkerDir(p.records.Dir()), 0o700); err != nil {
		return fmt.Errorf("the folder of the worker cannot be made: %w", err)
	}
	for _, n := range worker.Neighbours(WorkerDir(p.records.Dir()), "") {
		if n.PID == 0 {
			continue
		}
		hello, ok := p.hear(ctx, func(h dispatch.Worker) bool { return h.Instance == n.Instance })
		switch {
		case !ok: // nobody can tell what it does
			p.options.Log.Warn("a worker of this data folder lives and does not answer; it is killed, and its attempts are made again", "process", n.PID)
			_ = syscall.Kill(n.PID, syscall.SIGKILL)
			worker.Outlive(n.Dir)
		case p.instance == "" && hello.Slots == p.options.Slots && sameProgram(n.PID):
			p.instance, p.pid = n.Instance, n.PID
			p.options.Log.Info("the worker goes on", "process", n.PID, "executes", len(hello.Holds))
		default:
			p.options.Log.Info("a worker of another version ends what it has, and takes no more", "process", n.PID, "executes", len(hello.Holds))
			p.office.Leave(n.Instance)
			go func() {
				worker.Outlive(n.Dir)
				p.office.Gone(n.Instance)
			}()
		}
	}
	if p.instance == "" {
		if err := p.start(ctx); err != nil {
			return err
		}
	}
	go p.watch()
	return ctx.Err()
}

// hear waits for the hello of a worker.
func (p *process) hear(ctx context.Context, of func(dispatch.Worker) bool) (dispatch.Worker, bool) {
	patience := time.NewTimer(helloPatience)
	defer patience.Stop()
	for {
		changes := p.office.Changes()
		for _, w := range p.office.Workers() {
			if of(w) {
				return w, true
			}
		}
		select {
		case <-changes:
		case <-patience.C:
			return dispatch.Worker{}, false
		case <-ctx.Done():
			return dispatch.Worker{}, false
		}
	}
}

// sameProgram tells whether a process runs the very file that this one runs.
func sameProgram(pid int) bool {
	mine, err := os.Stat("/proc/self/exe")
	theirs, err2 := os.Stat("/proc/" + strconv.Itoa(pid) + "/exe")
	return err == nil && err2 == nil && os.SameFile(mine, theirs)
}

// start starts a worker and waits for its hello.
func (p *process) start(ctx context.Context) error {
	output, err := os.OpenFile(filepath.Join(WorkerDir(p.records.Dir()), "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("the worker cannot be started: %w", err)
	}
	defer output.Close()
	words := append(slices.Clone(p.options.Worker[1:]), "--beside", p.records.Dir(), "--slots", strconv.Itoa(p.options.Slots))
	if m := p.options.Messages; m.URL != "" {
		words = append(words, "--join", m.URL, "--credentials", m.Credentials)
	}
	command := exec.Command(p.options.Worker[0], words...)
	command.Stdout, command.Stderr = output, output
	command.SysProcAttr = &syscall.SysProcAttr{Setsid: true} // what ends the service does not end it
	if err := command.Start(); err != nil {
		return fmt.Errorf("the worker cannot be started: %w", err)
	}
	died := make(chan error, 1)
	go func() { died <- command.Wait() }()
	waiting, stop := context.WithCancel(ctx)
	defer stop()
	go func() {
		select {
		case err := <-died:
			if err == nil {
				err = errors.New("it ended")
			}
			died <- err
			stop()
		case <-waiting.Done():
		}
	}()
	hello, ok := p.hear(waiting, func(h dispatch.Worker) bool { return h.Local && h.PID == command.Process.Pid })
	if !ok {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		select {
		case err = <-died:
		default:
			err = errors.New("it does not answer")
			_ = command.Process.Kill()
		}
		return fmt.Errorf("the worker does not start: %w; what it says is in %s%s", err, output.Name(), lastWords(output.Name()))
	}
	p.mu.Lock()
	p.instance, p.pid = hello.Instance, hello.PID
	p.mu.Unlock()
	return nil
}

// lastWords is the end of a file, as a reason quotes it.
func lastWords(name string) string {
	file, err := os.Open(name)
	if err != nil {
		return ""
	}
	defer file.Close()
	if info, err := file.Stat(); err == nil {
		_, _ = file.Seek(max(0, info.Size()-300), io.SeekStart)
	}
	text, _ := io.ReadAll(file)
	if len(text) == 0 {
		return ""
	}
	return ": …" + string(text)
}

// watch starts the worker again when it has ended, ever later if it ends ever so soon.
func (p *process) watch() {
	began, pause := time.Now(), firstPause
	for {
		p.mu.Lock()
		instance, pid := p.instance, p.pid
		p.mu.Unlock()
		worker.Outlive(filepath.Join(WorkerDir(p.records.Dir()), instance))
		p.mu.Lock()
		leaving := p.leaving
		p.mu.Unlock()
		if leaving {
			return
		}
		p.office.Gone(instance)
		p.options.Log.Warn("the worker has ended; another one is started, and what it executed is made again", "process", pid)
		for err := errors.New("not started"); err != nil; {
			if time.Since(began) > time.Minute {
				pause = firstPause
			}
			select {
			case <-time.After(pause):
			case <-p.ended:
				return
			}
			began, pause = time.Now(), min(2*pause, longestPause)
			if err = p.start(context.Background()); err != nil {
				p.options.Log.Error("the worker cannot be started again; it is tried again", "error", err)
			}
		}
	}
}

func (p *process) run() {} // it takes orders since it lives

// leave leaves the worker alone with what it executes, or has it end that.
func (p *process) leave(endTasks bool) {
	p.mu.Lock()
	p.leaving = true
	pid, instance := p.pid, p.instance
	p.mu.Unlock()
	close(p.ended)
	if endTasks || !p.office.Busy() {
		_ = syscall.Kill(pid, syscall.SIGTERM)
	}
	if !endTasks {
		return
	}
	gone := make(chan struct{})
	go func() {
		worker.Outlive(filepath.Join(WorkerDir(p.records.Dir()), instance))
		close(gone)
	}()
	for _, signal := range []syscall.Signal{syscall.SIGTERM, syscall.SIGKILL} {
		select {
		case <-gone:
			return
		case <-time.After(patience):
			_ = syscall.Kill(pid, signal)
		}
	}
	<-gone
}

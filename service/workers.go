package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"syscall"
	"time"

	"github.com/nats-io/nats.go"

	"wiselantern/client"
	"wiselantern/service/api"
	"wiselantern/service/broker"
	"wiselantern/service/dispatch"
	"wiselantern/service/engine"
	"wiselantern/service/store"
	"wiselantern/worker"
	"wiselantern/worker/station"
)

// exchange is the message server, the service's end of it, and the service's own
// worker.
type exchange struct {
	options  Options
	heart    *engine.Engine
	records  *store.Store
	parcels  *api.Parcels
	server   *broker.Server
	conn     *nats.Conn
	office   *dispatch.Office
	identity *broker.Identity // shown to workers of other machines; nil if none may join
	name     string           // of the own worker
}

// WorkerDir is the folder of a service's own worker within its data folder.
func WorkerDir(data string) string { return filepath.Join(data, "worker") }

func openExchange(ctx context.Context, o Options, records *store.Store, heart *engine.Engine, parcels *api.Parcels) (x *exchange, err error) {
	x = &exchange{options: o, heart: heart, records: records, parcels: parcels, name: OwnWorker()}
	defer func() {
		if err != nil {
			x.close()
		}
	}()
	if err := x.connect(ctx); err != nil {
		return x, err
	}
	x.office, err = dispatch.Open(ctx, x.conn, dispatch.OfficeOptions{Recorder: heart, OnDisk: o.Messages.URL != "", Now: time.Now, Log: o.Log, Parcel: parcels.Piece,
		Keep: func(ctx context.Context, p dispatch.LogPiece) error {
			return records.Logs.AppendPacked(ctx, store.Packed{Of: logOf(p.AttemptID), First: p.First, Count: p.Count, Data: p.Data})
		},
		Grown: func(id dispatch.AttemptID) { records.Logs.Grown(logOf(id)) },
	})
	return x, err
}

// connect starts the message server, or connects to the one outside.
func (x *exchange) connect(ctx context.Context) (err error) {
	o, data := x.options, x.records.Dir()
	if o.Messages.URL != "" {
		if o.Joining != "" {
			return errors.New("with --messages workers join that message server; take --workers-listen out")
		}
		x.conn, err = Join(o.Messages, o.Log, nats.Name("service"))
		return err
	}
	// What of the streams a crash takes away is in the records, or on a worker's disk.
	settings := broker.Options{Dir: WorkerDir(data), Streams: filepath.Join(data, "messages"), Listen: o.Joining, Log: o.Log}
	if o.Joining != "" {
		host, _, err := net.SplitHostPort(o.Joining)
		if err != nil {
			return fmt.Errorf("the address for workers %q is not HOST:PORT", o.Joining)
		}
		machine, _ := os.Hostname()
		if x.identity, err = broker.OpenIdentity(filepath.Join(data, "joining"), append([]string{host, machine, "localhost", "127.0.0.1", "::1"}, o.Hosts...)); err != nil {
			return err
		}
		settings.TLS = x.identity.Certificate
		if settings.Workers, err = x.admitted(ctx); err != nil {
			return err
		}
	}
	if x.server, err = broker.Start(settings); err != nil {
		return err
	}
	x.conn, err = x.server.Connect(nats.Name("service"))
	return err
}

// Enter connects to the message server of a service on this machine by the folder of its
// workers, and again whenever that breaks.
func Enter(dir string, log *slog.Logger, more ...nats.Option) (*nats.Conn, error) {
	conn, err := broker.Enter(dir, append(lasting(log), more...)...)
	if err != nil {
		return nil, fmt.Errorf("no service answers at %s: %w", dir, err)
	}
	return conn, nil
}

// lasting are the options of connections that are made again.
func lasting(log *slog.Logger) []nats.Option {
	return []nats.Option{nats.MaxReconnects(-1), nats.ReconnectWait(100 * time.Millisecond), nats.ReconnectBufSize(-1), nats.PingInterval(dispatch.HelloEvery), nats.MaxPingsOutstanding(2),
		nats.DisconnectErrHandler(func(_ *nats.Conn, err error) {
			log.Info("the connection to the message server is lost; what runs goes on", "error", err)
		}),
		nats.ReconnectHandler(func(*nats.Conn) { log.Info("the connection to the message server is there again") }),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) { log.Warn("message server", "error", err) })}
}

// Join connects to an outside message server, and again whenever that breaks.
func Join(m Messages, log *slog.Logger, more ...nats.Option) (*nats.Conn, error) {
	options := append(lasting(log), more...)
	if m.Credentials != "" {
		credentials, err := broker.Credentials(m.Credentials)
		if err != nil {
			return nil, err
		}
		options = append(options, credentials...)
	}
	conn, err := nats.Connect(m.URL, options...)
	if err != nil {
		return nil, fmt.Errorf("the message server at %s cannot be joined: %w; see that it runs there and that the credentials are right", m.URL, err)
	}
	return conn, nil
}

// joining is where workers of other machines join.
func (x *exchange) joining() string {
	switch {
	case x.options.Messages.URL != "":
		return x.options.Messages.URL
	case x.server.Address != "":
		return "tls://" + x.server.Address
	}
	return ""
}

// admitted are the public keys of workers that may join, by name.
func (x *exchange) admitted(ctx context.Context) (map[string]string, error) {
	rows, err := x.records.WorkerKeys(ctx)
	keys := map[string]string{}
	for _, row := range rows {
		keys[row.Name] = row.PublicKey
	}
	return keys, err
}

// errNoJoining says that no worker can join.
var errNoJoining = errors.New("no worker of another machine can join this service; start it with --workers-listen HOST:PORT")

// Admit lets a worker of another machine join.
func (x *exchange) Admit(ctx context.Context, name, person string) (client.Admitted, error) {
	if x.options.Messages.URL != "" {
		return client.Admitted{}, &engine.RefusedError{Reason: "workers join the message server at " + x.options.Messages.URL + ", which has credentials of its own"}
	}
	if x.identity == nil {
		return client.Admitted{}, &engine.RefusedError{Reason: errNoJoining.Error()}
	}
	credentials, public, err := x.identity.NewCredentials(name)
	if err != nil {
		return client.Admitted{}, err
	}
	row := store.WorkerKey{Name: name, PublicKey: public, Created: store.At(time.Now()), CreatedBy: person}
	if err := x.heart.Record(ctx, func(w *store.Writer) { w.SetWorkerKey(row) }); err != nil {
		return client.Admitted{}, err
	}
	return client.Admitted{Worker: name, Address: x.joining(), Credentials: credentials}, x.readmit(ctx)
}

// Dismiss lets a worker join no more.
func (x *exchange) Dismiss(ctx context.Context, name string) error {
	if x.identity == nil {
		return errNoJoining
	}
	keys, err := x.admitted(ctx)
	if err != nil {
		return err
	}
	if keys[name] == "" {
		return fmt.Errorf("there is no worker %q that may join; there are %v", name, slices.Sorted(maps.Keys(keys)))
	}
	if err := x.heart.Record(ctx, func(w *store.Writer) { w.RemoveWorkerKey(name) }); err != nil {
		return err
	}
	return x.readmit(ctx)
}

func (x *exchange) readmit(ctx context.Context) error {
	keys, err := x.admitted(ctx)
	if err != nil {
		return err
	}
	return x.server.Admit(keys)
}

// Drain has a worker take no more work, or take it again.
func (x *exchange) Drain(name string, on bool) error { return x.office.Drain(name, on) }

func logOf(id dispatch.AttemptID) store.LogOf {
	return store.LogOf{Run: id.Run, Task: id.Task, Attempt: id.Attempt}
}

func (x *exchange) close() {
	if x.office != nil {
		x.office.Close()
	}
	if x.conn != nil {
		x.conn.Close()
	}
	if x.server != nil {
		x.server.Close()
	}
}

// OwnWorker is the name of a service's own worker: that of its machine.
func OwnWorker() string {
	name, err := os.Hostname()
	if err != nil {
		return "local"
	}
	return dispatch.NameOf(name)
}

// gone tells whether all workers of that name have said what they execute.
func (x *exchange) gone(name string) bool {
	return name == x.name || name == "" || name == oldName()
}

// oldName is what the own worker was called before names had rules.
func oldName() string {
	name, _ := os.Hostname()
	return name
}

func (x *exchange) list() (all []api.WorkerNow) {
	for _, w := range x.office.Workers() {
		now := api.WorkerNow{Holds: map[dispatch.AttemptID]bool{}}
		for _, h := range w.Holds {
			now.Holds[h.AttemptID] = true
		}
		now.Worker = client.Worker{Name: w.Name, Slots: w.Slots, Since: w.Since, Heard: w.Heard.UTC(), CPUs: w.CPUs, Load: w.Load, Memory: w.Memory, Total: w.Total,
			Queues: w.Queues, Labels: w.Labels, Draining: w.Draining, Silent: time.Since(w.Heard) > 3*dispatch.HelloEvery, Version: w.Version}
		all = append(all, now)
	}
	return all
}

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
	helloPatience = 10 * time.Second       // for a living worker to say hello
	longestPause  = 5 * time.Second        // before a worker that ended at once is started again
	firstPause    = 100 * time.Millisecond // the same, the first time
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
	if p.instance != "" {
		go p.watch(time.Now())
		return ctx.Err()
	}
	if err := p.start(ctx); err != nil {
		return err
	}
	go p.watch(time.Now())
	return nil
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

// watch starts the worker again when it has ended.
func (p *process) watch(began time.Time) {
	pause := firstPause
	for {
		p.mu.Lock()
		instance := p.instance
		p.mu.Unlock()
		worker.Outlive(filepath.Join(WorkerDir(p.records.Dir()), instance))
		p.mu.Lock()
		leaving := p.leaving
		p.mu.Unlock()
		if leaving {
			return
		}
		p.office.Gone(instance)
		p.options.Log.Warn("the worker has ended; another one is started, and what it executed is made again", "process", p.pid)
		for {
			if time.Since(began) > time.Minute {
				pause = firstPause
			}
			began = time.Now()
			ctx, stop := context.WithCancel(context.Background())
			err := p.start(ctx)
			stop()
			if err == nil {
				break
			}
			p.options.Log.Error("the worker cannot be started again; tried again", "error", err)
			select {
			case <-time.After(pause):
			case <-p.ended:
				return
			}
			pause = min(2*pause, longestPause)
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

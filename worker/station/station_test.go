package station

import (
	"context"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/nats-io/nats.go"

	"wiselantern/service/broker"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
	"wiselantern/worker"
)

// service is as much of one as a worker speaks to.
type service struct {
	t      *testing.T
	dir    string
	server *broker.Server
	conn   *nats.Conn
	office *dispatch.Office

	mu    sync.Mutex
	open  map[dispatch.AttemptID]bool
	ended map[dispatch.AttemptID]dispatch.Ended
	lines map[dispatch.AttemptID]int
	order []string // of what came
}

func (s *service) Started(context.Context, dispatch.Started) error { return nil }

func (s *service) Ended(_ context.Context, reports ...dispatch.Ended) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, m := range reports {
		delete(s.open, m.AttemptID)
		if _, again := s.ended[m.AttemptID]; !again {
			s.ended[m.AttemptID] = m
			s.order = append(s.order, "report")
		}
	}
	return nil
}

func (s *service) Open(_ context.Context, ids []dispatch.AttemptID) (map[dispatch.AttemptID]bool, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	open := map[dispatch.AttemptID]bool{}
	for _, id := range ids {
		if s.open[id] {
			open[id] = true
		}
	}
	return open, nil
}

func (s *service) Out(context.Context) ([]dispatch.AttemptID, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Collect(maps.Keys(s.open)), nil
}

func (s *service) Again(context.Context, dispatch.AttemptID) error { return nil }

func (s *service) Executed(context.Context) (map[dispatch.AttemptID]string, error) { return nil, nil }

func (s *service) keep(_ context.Context, p dispatch.LogPiece) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lines[p.AttemptID] += p.Count
	s.order = append(s.order, "log")
	return nil
}

func (s *service) begin() {
	s.t.Helper()
	var err error
	if s.server, err = broker.Start(broker.Options{Dir: filepath.Join(s.dir, "door"), Streams: filepath.Join(s.dir, "messages"), Log: slog.New(slog.DiscardHandler)}); err != nil {
		s.t.Fatal(err)
	}
	if s.conn, err = s.server.Connect(); err != nil {
		s.t.Fatal(err)
	}
	s.office, err = dispatch.Open(s.t.Context(), s.conn, dispatch.OfficeOptions{Recorder: s, Keep: s.keep, Now: time.Now, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		s.t.Fatal(err)
	}
}

func (s *service) end() {
	s.office.Close()
	s.conn.Close()
	s.server.Close()
}

func (s *service) send(run int64, script string) dispatch.AttemptID {
	id := dispatch.AttemptID{Run: run, Attempt: 1}
	s.mu.Lock()
	s.open[id] = true
	s.mu.Unlock()
	s.office.Send(dispatch.Order{AttemptID: id, Kind: "shell", Shell: script, TaskName: "t"})
	return id
}

func (s *service) until(what string, ok func() bool) {
	s.t.Helper()
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		s.mu.Lock()
		done := ok()
		s.mu.Unlock()
		if done {
			return
		}
		if time.Now().After(deadline) {
			s.t.Fatal("it does not come so far: " + what)
		}
	}
}

func newService(t *testing.T) *service {
	s := &service{t: t, dir: t.TempDir(), open: map[dispatch.AttemptID]bool{}, ended: map[dispatch.AttemptID]dispatch.Ended{}, lines: map[dispatch.AttemptID]int{}}
	s.begin()
	t.Cleanup(func() { s.end() })
	return s
}

// remote is the life of a worker of another machine; it ends with the test.
func (s *service) remote(dir string) (drain func(), ended <-chan error) {
	s.t.Helper()
	conn, err := broker.Enter(filepath.Join(s.dir, "door"), nats.MaxReconnects(-1), nats.ReconnectWait(20*time.Millisecond))
	if err != nil {
		s.t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	urge, done := make(chan struct{}), make(chan error, 1)
	go func() {
		done <- Live(ctx, urge, Options{Name: "field-1", Dir: dir, Slots: 2, Queues: []string{dispatch.DefaultQueue}, Conn: conn, Log: slog.New(slog.DiscardHandler)})
		close(done)
	}()
	s.t.Cleanup(func() {
		stop()
		close(urge)
		<-done
		conn.Close()
	})
	return stop, done
}

// While the service is away, a task ends and prints; its lines and then its report come
// when the service is there again, each once, and the worker's folder is empty then.
func TestWhatHappensWithoutTheServiceIsToldLater(t *testing.T) {
	s := newService(t)
	dir := filepath.Join(t.TempDir(), "worker")
	begun := filepath.Join(t.TempDir(), "begun")
	drain, ended := s.remote(dir)
	id := s.send(1, "echo before; touch "+begun+"; sleep 1; for i in 1 2 3; do echo line $i; done")
	s.until("it begins", func() bool { _, err := os.Stat(begun); return err == nil })
	s.end()
	time.Sleep(1500 * time.Millisecond) // the task ends now
	logs, err := store.OpenLogs(t.Context(), filepath.Join(dir, "logs.db"))
	if err != nil {
		t.Fatal(err)
	}
	left, err := logs.Count(t.Context(), store.LogOf{Run: 1, Attempt: 1})
	if err != nil || left != 4 {
		t.Errorf("%d lines wait on its disk, %v", left, err)
	}
	if err := logs.Close(); err != nil {
		t.Fatal(err)
	}
	s.begin()
	s.until("the report comes", func() bool { _, ok := s.ended[id]; return ok })
	s.mu.Lock()
	if s.lines[id] != 4 || s.ended[id].Outcome != dispatch.Succeeded || s.order[len(s.order)-1] != "report" {
		t.Errorf("%d lines and %+v came, as %v", s.lines[id], s.ended[id], s.order)
	}
	s.mu.Unlock()
	drain()
	if err := <-ended; err != nil {
		t.Error(err)
	}
	if homes, _ := filepath.Glob(filepath.Join(dir, "*", "lock")); len(homes) != 0 {
		t.Errorf("left behind: %v", homes)
	}
}

// A worker that is drained ends its tasks, takes none that come later, and ends.
func TestADrainedWorkerEndsWithItsLastTask(t *testing.T) {
	s := newService(t)
	begun := filepath.Join(t.TempDir(), "begun")
	drain, ended := s.remote(filepath.Join(t.TempDir(), "worker"))
	id := s.send(1, "touch "+begun+"; sleep 1")
	s.until("it begins", func() bool { _, err := os.Stat(begun); return err == nil })
	drain()
	if err := <-ended; err != nil {
		t.Error(err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ended[id].Outcome != dispatch.Succeeded {
		t.Errorf("%+v", s.ended[id])
	}
}

// What a worker of before had, which ended without a word, is reported by the next.
func TestTheNextWorkerReportsForTheOneBefore(t *testing.T) {
	s := newService(t)
	dir := filepath.Join(t.TempDir(), "worker")
	id := dispatch.AttemptID{Run: 7, Attempt: 1}
	s.open[id] = true
	gone := filepath.Join(dir, "gone", "attempts", id.String())
	if err := os.MkdirAll(gone, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "gone", "lock"), []byte("1\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	s.remote(dir)
	s.until("it is reported", func() bool { _, ok := s.ended[id]; return ok })
	s.mu.Lock()
	report := s.ended[id]
	s.mu.Unlock()
	if report.Outcome != dispatch.Lost || report.Worker != "field-1" || !strings.Contains(report.Error, "ended while it ran") {
		t.Errorf("%+v", report)
	}
	s.until("its home is gone", func() bool { _, err := os.Stat(filepath.Join(dir, "gone")); return os.IsNotExist(err) })
	after := s.send(8, "true")
	s.until("it works", func() bool { return s.ended[after].Outcome == dispatch.Succeeded })
}

func TestAFolderThatCannotBeWrittenIsAFault(t *testing.T) {
	dir := t.TempDir()
	s := &Station{Options: Options{Dir: dir}}
	home, err := worker.Move(dir)
	if err != nil {
		t.Fatal(err)
	}
	s.home = home
	if faults := s.faults(); len(faults) != 0 {
		t.Errorf("%v", faults)
	}
	if err := os.RemoveAll(home.Dir); err != nil {
		t.Fatal(err)
	}
	if faults := s.faults(); len(faults) != 1 || !strings.Contains(faults[0], "nothing can be written") {
		t.Errorf("%v", faults)
	}
}

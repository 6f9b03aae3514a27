// Package testkit starts real services for tests: on loopback, on a folder of
// their own, with the same code as lantern serve.
package testkit

import (
	"context"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wiselantern/client"
	"wiselantern/console"
	"wiselantern/core/definition"
	"wiselantern/parcel"
	"wiselantern/service"
)

// Service is a service that runs in the process of the test.
type Service struct {
	*client.Client
	Dir     string // the data folder
	Address string
	Token   string
	Link    string // signs in to the console once

	stop  context.CancelFunc
	ended chan error
}

// Start starts a service on a new folder; it is stopped when the test ends.
func Start(t testing.TB) *Service { return StartIn(t, filepath.Join(t.TempDir(), "data")) }

// StartIn starts a service on that folder.
func StartIn(t testing.TB, dir string) *Service { return StartAt(t, dir, "127.0.0.1:0") }

// StartAt starts a service on that folder, at that address.
func StartAt(t testing.TB, dir, listen string) *Service {
	t.Helper()
	return start(t, service.Options{Data: dir, Listen: listen})
}

// StartByHand starts a service on that folder for which nothing comes due by itself.
func StartByHand(t testing.TB, dir string) *Service {
	t.Helper()
	return start(t, service.Options{Data: dir, Listen: "127.0.0.1:0", ByHand: true})
}

func start(t testing.TB, o service.Options) *Service {
	t.Helper()
	dir := o.Data
	ctx, stop := context.WithCancel(context.Background())
	s := &Service{Dir: dir, stop: stop, ended: make(chan error, 1)}
	up := make(chan *service.Service, 1)
	var log io.Writer = io.Discard
	if testing.Verbose() {
		log = os.Stderr
	}
	o.Slots, o.Console, o.Version, o.Log = 8, console.Files(), "test", slog.New(slog.NewTextHandler(log, nil))
	go func() {
		s.ended <- service.Run(ctx, o,
			func(running *service.Service) { up <- running })
	}()
	select {
	case running := <-up:
		s.Address = running.Address
		s.Link = running.SignInLink("kari").Link
	case err := <-s.ended:
		stop()
		t.Fatalf("the service did not start: %v", err)
	}
	token, err := os.ReadFile(filepath.Join(dir, "token"))
	if err != nil {
		t.Fatal(err)
	}
	s.Token = strings.TrimSpace(string(token))
	s.Client = client.New(s.Address, s.Token, "kari")
	t.Cleanup(func() { s.Stop(t) })
	return s
}

// Stop ends the service as SIGTERM does, and waits. Stopping twice is stopping once.
func (s *Service) Stop(t testing.TB) {
	t.Helper()
	s.stop()
	if err, ok := <-s.ended; ok {
		close(s.ended)
		if err != nil {
			t.Errorf("the service ended with: %v", err)
		}
	}
}

// Context is a context that ends with patience.
func Context(t testing.TB) context.Context {
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	t.Cleanup(stop)
	return ctx
}

// Apply applies one workflow that stands in no project.
func (s *Service) Apply(t testing.TB, text string) {
	t.Helper()
	if _, err := s.Client.Apply(Context(t), client.ApplyRequest{Files: []definition.File{{Path: "workflow.yaml", Text: text}}}); err != nil {
		t.Fatal(err)
	}
}

// ApplyProject applies a workflow together with files of code; those under bin/
// get the run bit.
func (s *Service) ApplyProject(t testing.TB, text string, code map[string]string) {
	t.Helper()
	dir := t.TempDir()
	for name, content := range code {
		mode := os.FileMode(0o644)
		if strings.HasPrefix(name, "bin/") {
			mode = 0o755
		}
		name = filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(name, []byte(content), mode); err != nil {
			t.Fatal(err)
		}
	}
	packed, err := parcel.Pack(dir)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.SendParcel(Context(t), packed.Archive); err != nil {
		t.Fatal(err)
	}
	files := []definition.File{{Path: "workflow.yaml", Text: text}}
	if project, ok := code[definition.ProjectFile]; ok {
		files = append(files, definition.File{Path: definition.ProjectFile, Text: project})
	}
	if _, err := s.Client.Apply(Context(t), client.ApplyRequest{Files: files, Parcel: packed.Name}); err != nil {
		t.Fatal(err)
	}
}

// Begin starts a run.
func (s *Service) Begin(t testing.TB, workflow string, params ...string) client.Run {
	t.Helper()
	request := client.StartRequest{Texts: map[string]string{}}
	for _, p := range params {
		name, value, _ := strings.Cut(p, "=")
		request.Texts[name] = value
	}
	run, err := s.Client.Start(Context(t), workflow, request)
	if err != nil {
		t.Fatal(err)
	}
	return run
}

// End waits for the end of a run.
func (s *Service) End(t testing.TB, id string) client.Run {
	t.Helper()
	run, err := s.FollowRun(Context(t), id, nil)
	if err != nil {
		t.Fatalf("waiting for the end of %s: %v", id, err)
	}
	return run
}

// EndAgain waits for the end of a run that had ended at before.
func (s *Service) EndAgain(t testing.TB, id string, before *time.Time) client.Run {
	t.Helper()
	return s.Until(t, id, func(r client.Run) bool { return r.Ended != nil && (before == nil || r.Ended.After(*before)) })
}

// Until waits until ok says so of a run.
func (s *Service) Until(t testing.TB, id string, ok func(client.Run) bool) client.Run {
	t.Helper()
	ctx := Context(t)
	for {
		run, err := s.Run(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		if ok(run) {
			return run
		}
		select {
		case <-ctx.Done():
			t.Fatalf("%s does not come so far: %+v", id, run)
		case <-time.After(10 * time.Millisecond):
		}
	}
}

// Task is the task of a run with that name.
func Task(t testing.TB, run client.Run, name string) client.Task {
	t.Helper()
	for _, task := range run.Tasks {
		if task.Name == name {
			return task
		}
	}
	t.Fatalf("run %s has no task %s", run.ID, name)
	return client.Task{}
}

// Log is what an attempt printed, a line each with the stream in front.
func (s *Service) Log(t testing.TB, run, task string, attempt int) string {
	t.Helper()
	page, err := s.Lines(Context(t), run, task, attempt, 0)
	if err != nil {
		t.Fatal(err)
	}
	var out strings.Builder
	for _, l := range page.Lines {
		out.WriteString(l.Stream + " " + l.Text + "\n")
	}
	return out.String()
}

package worker

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// desk is the other side of a worker: it gives out the orders of the test and
// keeps what it is told.
type desk struct {
	orders chan dispatch.Order

	mu    sync.Mutex
	ended []dispatch.Ended
	lines []store.Line
	deaf  int // how many reports it does not hear
}

func (d *desk) Take(ctx context.Context) (dispatch.Order, <-chan struct{}, error) {
	select {
	case o, ok := <-d.orders:
		if !ok {
			return o, nil, dispatch.ErrClosed
		}
		return o, nil, nil
	case <-ctx.Done():
		return dispatch.Order{}, nil, ctx.Err()
	}
}

func (d *desk) Rest(string) {}

func (d *desk) Started(context.Context, dispatch.Started) error { return nil }

func (d *desk) Log(_ context.Context, m dispatch.Log) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.lines = append(d.lines, m.Lines...)
	return nil
}

func (d *desk) Ended(_ context.Context, m dispatch.Ended) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.deaf > 0 {
		d.deaf--
		return errors.New("not heard")
	}
	d.ended = append(d.ended, m)
	return nil
}

func start(t *testing.T, dir string, d *desk) *Worker {
	t.Helper()
	fetch := func(context.Context, string) (io.ReadCloser, error) { return nil, errors.New("there are no parcels") }
	return New(d, Options{Name: "test", Dir: dir, Home: dir, Slots: 2, Fetch: fetch, Log: slog.New(slog.DiscardHandler)})
}

func shell(run int64, script string) dispatch.Order {
	return dispatch.Order{AttemptID: dispatch.AttemptID{Run: run, Task: 0, Attempt: 1}, RunName: fmt.Sprintf("w:%d", run), TaskName: "t", Kind: "shell", Shell: script}
}

// A report that is not acknowledged is said again, and its folder is kept until
// it is.
func TestAReportIsSaidUntilItIsHeard(t *testing.T) {
	d := &desk{orders: make(chan dispatch.Order, 1), deaf: 3}
	dir := t.TempDir()
	w := start(t, dir, d)
	d.orders <- shell(1, `echo '{"rows": 1}' > "$LANTERN_RESULT"`)
	close(d.orders)
	w.Run(t.Context())
	if len(d.ended) != 1 || d.ended[0].Outcome != dispatch.Succeeded || string(d.ended[0].Result) != `{"rows":1}` {
		t.Errorf("%+v", d.ended)
	}
	if left, _ := os.ReadDir(filepath.Join(dir, "attempts")); len(left) != 0 {
		t.Errorf("left behind: %v", left)
	}
}

// What an earlier life left: a report on disk is told as it is; an attempt
// without one is told lost, and its processes are ended first.
func TestWhatAnEarlierLifeLeftIsTold(t *testing.T) {
	dir := t.TempDir()
	d := &desk{deaf: 1 << 30}
	w := start(t, dir, d)
	// One report that nobody heard before the worker was stopped.
	unheard := make(chan struct{})
	go func() {
		defer close(unheard)
		w.handle(shell(7, "exit 3"), nil)
	}()
	report := filepath.Join(dir, "attempts", "7.0.1", "report.json")
	for {
		if _, err := os.Stat(report); err == nil {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	w.GiveUp()
	<-unheard
	// One attempt whose process is still there.
	cut := filepath.Join(dir, "attempts", "8.0.1")
	if err := os.MkdirAll(cut, 0o700); err != nil {
		t.Fatal(err)
	}
	orphan := exec.Command("sleep", "300")
	orphan.Env = append(os.Environ(), "LANTERN_RESULT="+filepath.Join(cut, "result.json"))
	if err := orphan.Start(); err != nil {
		t.Fatal(err)
	}
	bystander := exec.Command("sleep", "300")
	bystander.Env = append(os.Environ(), "LANTERN_RESULT="+filepath.Join(cut, "result.json.other"))
	if err := bystander.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		_ = bystander.Process.Kill()
		_ = bystander.Wait()
	}()
	if err := os.MkdirAll(filepath.Join(dir, "attempts", "not-ours"), 0o700); err != nil {
		t.Fatal(err)
	}

	next := &desk{}
	heir := start(t, dir, next)
	left, err := heir.Look(dir)
	if err != nil || len(left.IDs()) != 2 {
		t.Fatalf("%v %v", left.IDs(), err)
	}
	if err := heir.Recover(t.Context(), left); err != nil {
		t.Fatal(err)
	}
	told := map[int64]dispatch.Ended{}
	for _, m := range next.ended {
		told[m.Run] = m
	}
	if m := told[7]; m.Outcome != dispatch.Failed || m.ExitCode == nil || *m.ExitCode != 3 {
		t.Errorf("the report on disk was told as %+v", m)
	}
	if m := told[8]; m.Outcome != dispatch.Lost || len(told) != 2 {
		t.Errorf("the attempt that was cut off was told as %+v", m)
	}
	if err := orphan.Wait(); err == nil || !strings.Contains(err.Error(), "killed") {
		t.Errorf("its process ended with %v", err)
	}
	if bystander.ProcessState != nil || syscall.Kill(bystander.Process.Pid, 0) != nil {
		t.Error("another's process was ended too")
	}
	if entries, _ := os.ReadDir(filepath.Join(dir, "attempts")); len(entries) != 1 || entries[0].Name() != "not-ours" {
		t.Errorf("left behind: %v", entries)
	}
}

// However what is printed is cut into blocks, the bytes come back, and the lines
// are those that were printed.
func TestOutputIsCutIntoLinesOnly(t *testing.T) {
	random := rand.New(rand.NewPCG(9, 10))
	for range 60 {
		var content []byte
		for range random.IntN(40) {
			length := []int{0, 1, 80, maxLine - 1, maxLine, maxLine + 1, 2 * maxLine, 3*maxLine + 5}[random.IntN(8)]
			if random.IntN(3) > 0 {
				length = random.IntN(200)
			}
			line := bytes.Repeat([]byte{byte('a' + random.IntN(26))}, length)
			content = append(append(content, line...), '\n')
		}
		var got []store.Line
		o := newOutput(func(lines []store.Line) { got = append(got, lines...) })
		stdout, stderr, err := o.pipes()
		if err != nil {
			t.Fatal(err)
		}
		for rest := content; len(rest) > 0; {
			n := min(len(rest), 1+random.IntN(100_000))
			if _, err := stdout.Write(rest[:n]); err != nil {
				t.Fatal(err)
			}
			rest = rest[n:]
		}
		stdout.Close()
		stderr.Close()
		o.close(time.Second)
		var back []byte
		for _, l := range got {
			if len(l.Text) > maxLine || l.Error {
				t.Fatalf("a line of %d bytes", len(l.Text))
			}
			back = append(back, l.Text...)
			if !l.Joined {
				back = append(back, '\n')
			}
		}
		if !bytes.Equal(back, content) {
			t.Fatalf("%d bytes went in and %d came out", len(content), len(back))
		}
	}
}

// Something that keeps the output open does not keep the attempt open.
func TestAnOutputHeldOpenIsLeft(t *testing.T) {
	d := &desk{orders: make(chan dispatch.Order, 1)}
	w := start(t, t.TempDir(), d)
	// setsid takes the child out of the group, so that it is not ended with it.
	d.orders <- shell(1, "echo first; setsid sleep 20 & echo last")
	close(d.orders)
	began := time.Now()
	w.Run(t.Context())
	if took := time.Since(began); took > 10*time.Second {
		t.Errorf("it took %v", took)
	}
	if len(d.ended) != 1 || d.ended[0].Outcome != dispatch.Succeeded || len(d.lines) != 2 {
		t.Errorf("%+v, %d lines", d.ended, len(d.lines))
	}
}

func TestAnUnknownKindIsTold(t *testing.T) {
	d := &desk{orders: make(chan dispatch.Order, 1)}
	w := start(t, t.TempDir(), d)
	o := shell(1, "")
	o.Kind = "teleport"
	d.orders <- o
	close(d.orders)
	w.Run(t.Context())
	if len(d.ended) != 1 || !strings.Contains(d.ended[0].Error, `knows no tasks of the kind "teleport", only exec, shell`) {
		t.Errorf("%+v", d.ended)
	}
}

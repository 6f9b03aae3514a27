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

func (d *desk) Started(dispatch.Started) {}

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
	home, err := Move(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(home.Leave)
	w, err := New(d, Options{Name: "test", Dir: dir, Home: home.Dir, Slots: 2, Fetch: fetch, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// endLife has the home of a worker be as it is when its process has ended.
func endLife(t *testing.T, w *Worker) {
	t.Helper()
	if err := errors.Join(w.journal.close(), os.Remove(filepath.Join(w.Home, "lock")), os.WriteFile(filepath.Join(w.Home, "lock"), nil, 0o600)); err != nil {
		t.Fatal(err)
	}
}

func shell(run int64, script string) dispatch.Order {
	return dispatch.Order{AttemptID: dispatch.AttemptID{Run: run, Task: 0, Attempt: 1}, RunName: fmt.Sprintf("w:%d", run), TaskName: "t", Kind: "shell", Shell: script}
}

// A report that is not acknowledged is said again, and is in the journal until it is.
func TestAReportIsSaidUntilItIsHeard(t *testing.T) {
	d := &desk{orders: make(chan dispatch.Order, 1), deaf: 3}
	w := start(t, t.TempDir(), d)
	d.orders <- shell(1, `echo '{"rows": 1}' > "$LANTERN_RESULT"; pwd > where; cat where`)
	close(d.orders)
	w.Run(t.Context())
	if len(d.ended) != 1 || d.ended[0].Outcome != dispatch.Succeeded || string(d.ended[0].Result) != `{"rows":1}` {
		t.Errorf("%+v", d.ended)
	}
	if err := w.Close(); err != nil {
		t.Error(err)
	}
	if open, err := readJournal(w.Home); err != nil || len(open) != 0 {
		t.Errorf("left in the journal: %v, %v", open, err)
	}
	for _, of := range []string{"results", "work"} {
		if left, _ := os.ReadDir(filepath.Join(w.Home, of)); len(left) != 0 {
			t.Errorf("left behind: %v", left)
		}
	}
}

// A work folder that is left as it was given is given again, any other is not; whoever
// has one finds it empty.
func TestWorkFoldersAreEmptyWhenTheyAreGiven(t *testing.T) {
	d := &desk{orders: make(chan dispatch.Order)}
	w := start(t, t.TempDir(), d)
	w.Slots = 1
	scripts := []string{"true", "pwd", "touch mine", "mkdir -p a/b", "chmod 500 .", "rmdir $PWD", "touch .hidden; rm .hidden", "setsid sleep 20 & sleep 0.3; exit 3", "ln -s /etc x"}
	go func() {
		for i, script := range scripts {
			d.orders <- shell(int64(i+1), `[ -z "$(ls -A)" ] && touch probe && rm probe || exit 9; `+script)
		}
		close(d.orders)
	}()
	w.Run(t.Context())
	for _, m := range d.ended {
		if m.ExitCode == nil || *m.ExitCode == 9 {
			t.Errorf("%s did not find its folder as it should be: %+v", scripts[m.Run-1], m)
		}
	}
	if left, _ := os.ReadDir(w.folders.dir); len(d.ended) != len(scripts) || len(left) > 0 || w.folders.made != 6 {
		t.Errorf("%d ended, %d folders left of %d", len(d.ended), len(left), w.folders.made)
	}
}

// What an earlier life left: a report on disk is told as it is; an attempt
// without one is told lost, and its processes are ended first. That holds too for what
// a worker has left that had a folder for each attempt in the place of a journal.
func TestWhatAnEarlierLifeLeftIsTold(t *testing.T) {
	dir := t.TempDir()
	d := &desk{deaf: 1 << 30}
	w := start(t, dir, d)
	// One report that nobody heard before the worker was stopped.
	w.handle(shell(7, "exit 3"), nil)
	// One attempt whose process is still there, one that is recorded, and a line that was
	// not written whole.
	cut := shell(8, "").AttemptID
	gone := shell(9, "").AttemptID
	if err := errors.Join(w.journal.take(cut), w.journal.take(gone), w.journal.end(dispatch.Ended{AttemptID: gone}), w.journal.recorded(gone)); err != nil {
		t.Fatal(err)
	}
	if _, err := w.journal.file.WriteString(`={"run": 8, "ta`); err != nil {
		t.Fatal(err)
	}
	orphan := sleeper(t, resultFile(w.Home, cut))
	bystander := sleeper(t, resultFile(w.Home, cut)+".other")
	before := filepath.Join(w.Home, "attempts", "11.0.1")
	ended := filepath.Join(w.Home, "attempts", "12.0.1")
	for _, folder := range []string{before, ended, filepath.Join(w.Home, "attempts", "not-ours")} {
		if err := os.MkdirAll(folder, 0o700); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(ended, "report.json"), []byte(`{"run": 12, "task": 0, "attempt": 1, "outcome": "succeeded"}`), 0o600); err != nil {
		t.Fatal(err)
	}
	oldOrphan := sleeper(t, filepath.Join(before, "result.json"))

	next := &desk{}
	heir := start(t, dir, next)
	if left, err := heir.Look(w.Home); err != nil || len(left.IDs()) != 0 {
		t.Errorf("of a worker that lives, it was told that it left %v, %v", left.IDs(), err)
	}
	w.GiveUp()
	w.reports.Wait()
	endLife(t, w)
	left, err := heir.Look(w.Home)
	if err != nil || len(left.IDs()) != 4 {
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
	if m := told[8]; m.Outcome != dispatch.Lost || len(told) != 4 {
		t.Errorf("the attempt that was cut off was told as %+v", m)
	}
	if told[11].Outcome != dispatch.Lost || told[12].Outcome != dispatch.Succeeded {
		t.Errorf("what has no journal was told as %+v and %+v", told[11], told[12])
	}
	for _, killed := range []*exec.Cmd{orphan, oldOrphan} {
		if err := killed.Wait(); err == nil || !strings.Contains(err.Error(), "killed") {
			t.Errorf("its process ended with %v", err)
		}
	}
	if syscall.Kill(bystander.Process.Pid, 0) != nil {
		t.Error("another's process was ended too")
	}
	if _, err := os.Stat(w.Home); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("its home is left: %v", err)
	}
}

// sleeper is a process that has a file of results in its environment.
func sleeper(t *testing.T, result string) *exec.Cmd {
	t.Helper()
	process := exec.Command("sleep", "300")
	process.Env = append(os.Environ(), "LANTERN_RESULT="+result)
	if err := process.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = process.Process.Kill() })
	return process
}

// A journal that is full is written anew, and tells the same.
func TestAJournalStaysSmall(t *testing.T) {
	home := t.TempDir()
	j, err := openJournal(home)
	if err != nil {
		t.Fatal(err)
	}
	id := func(n int) dispatch.AttemptID { return dispatch.AttemptID{Run: int64(n), Task: 1, Attempt: 1} }
	const all = 6000
	for n := range all {
		err := errors.Join(j.take(id(n)), j.end(dispatch.Ended{AttemptID: id(n), Outcome: dispatch.Failed, Error: strings.Repeat("x", 300)}))
		if n%1000 != 0 {
			err = errors.Join(err, j.recorded(id(n)))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(j.take(id(all)), j.close()); err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(j.name)
	if err != nil || info.Size() > journalFull {
		t.Errorf("%v, %d bytes", err, info.Size())
	}
	open, err := readJournal(home)
	if report, ok := open[id(all)]; err != nil || len(open) != 7 || !ok || report != nil || open[id(3000)].Outcome != dispatch.Failed {
		t.Errorf("%v, %v", err, open)
	}
}

// However what is printed is cut into blocks, the bytes come back, and the lines
// are those that were printed.
func TestOutputIsCutIntoLinesOnly(t *testing.T) {
	random := rand.New(rand.NewPCG(9, 10))
	early, followed := 0, 0
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
		out, errors, err := o.open()
		if err != nil {
			t.Fatal(err)
		}
		stdout, stderr := os.NewFile(out, "stdout"), os.NewFile(errors, "stderr")
		lives, ends, err := os.Pipe() // stands for the process
		if err != nil {
			t.Fatal(err)
		}
		var pieces []int
		for rest := len(content); rest > 0; {
			pieces = append(pieces, min(rest, 1+random.IntN(100_000)))
			rest -= pieces[len(pieces)-1]
		}
		slow := time.Duration(random.IntN(2)) * time.Millisecond
		go func() {
			rest := content
			for _, n := range pieces {
				time.Sleep(slow)
				if _, err := stdout.Write(rest[:n]); err != nil {
					t.Error(err)
				}
				rest = rest[n:]
			}
			stdout.Close()
			stderr.Close()
			ends.Close()
		}()
		if over := o.early(int(lives.Fd()), 5*time.Millisecond); over {
			early++
		} else {
			o.follow()
			followed++
		}
		o.close(time.Second)
		lives.Close()
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
	if early == 0 || followed == 0 {
		t.Errorf("%d outputs were read early and %d followed", early, followed)
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

// A task sees each variable once, as the one who is nearest to it says: the worker's
// machine, the worker, the task, the service.
func TestTheEnvironmentOfATask(t *testing.T) {
	d := &desk{orders: make(chan dispatch.Order, 1)}
	w := start(t, t.TempDir(), d)
	o := shell(1, "")
	o.Kind, o.Exec, o.Trace = "exec", []string{"env"}, "00-1-2-01"
	o.Env = map[string]string{"HOME": "/gauges", "TRACEPARENT": "mine", "SITE": "dam"}
	d.orders <- o
	close(d.orders)
	w.Run(t.Context())
	seen := map[string][]string{}
	for _, l := range d.lines {
		name, value, _ := strings.Cut(string(l.Text), "=")
		seen[name] = append(seen[name], value)
	}
	for name, want := range map[string]string{"HOME": "/gauges", "SITE": "dam", "TRACEPARENT": "00-1-2-01", "LANTERN_TASK": "t", "PWD": filepath.Join(w.folders.dir, "1")} {
		if got := seen[name]; len(got) != 1 || got[0] != want {
			t.Errorf("%s is %q, not once %q", name, got, want)
		}
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

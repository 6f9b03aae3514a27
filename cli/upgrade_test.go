package cli_test

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"wiselantern/internal/testkit"
)

// The service ends and comes again while tasks run, once as it was and once as another
// program: the tasks go on, each is executed once, and what they left is recorded.
func TestTasksOutliveAnUpgradeOfTheService(t *testing.T) {
	p := newPerson(t)
	notes := filepath.Join(p.home, "notes")
	p.writes("w.yaml", "workflow: w\nif_running: alongside\ntasks:\n  long: {shell: 'echo begin >> "+notes+"; sleep 3; echo \"end $LANTERN_RUN\" >> "+notes+"; echo the water is high; echo ''{\"rows\": 7}'' > $LANTERN_RESULT'}\n  next: {after: long, shell: 'echo \"next $LANTERN_RUN\" >> "+notes+"'}\n")
	begun := func(n int) {
		t.Helper()
		for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(10 * time.Millisecond) {
			text, _ := os.ReadFile(notes)
			if strings.Count(string(text), "begin") == n {
				return
			}
			if time.Now().After(deadline) {
				t.Fatalf("%d tasks do not begin: %q", n, text)
			}
		}
	}
	service := p.serves()
	p.wants(p.does("apply", "w.yaml"), 0)
	p.wants(p.does("start", "w"), 0)
	begun(1)
	workers := func() (pids []string) {
		locks, _ := filepath.Glob(filepath.Join(p.home, "lantern-data", "worker", "*", "lock"))
		for _, l := range locks {
			text, _ := os.ReadFile(l)
			pids = append(pids, strings.TrimSpace(string(text)))
		}
		return pids
	}
	first := workers()
	if err := service.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	_ = service.Wait()
	service = p.serves()
	if again := workers(); len(first) != 1 || fmt.Sprint(again) != fmt.Sprint(first) {
		t.Errorf("the worker was %v and is %v", first, again)
	}
	p.wants(p.does("start", "w"), 0)
	begun(2)
	_ = service.Process.Kill()
	_ = service.Wait()

	// The newer version is another file.
	program := filepath.Join(p.home, "lantern-newer")
	from, err := os.Open(testkit.Binary(t))
	if err != nil {
		t.Fatal(err)
	}
	to, err := os.OpenFile(program, os.O_CREATE|os.O_WRONLY, 0o755)
	if err != nil {
		t.Fatal(err)
	}
	_, err = io.Copy(to, from)
	from.Close()
	to.Close()
	if err != nil {
		t.Fatal(err)
	}
	p.program = program
	p.serves()
	p.wants(p.does("workers"), 0, "drains")
	p.wants(p.does("watch", "w:1"), 0)
	p.wants(p.does("watch", "w:2"), 0)
	for _, id := range []string{"w:1", "w:2"} {
		run := p.run(id)
		if long := run.Tasks[0]; len(long.Attempts) != 1 || long.State != "succeeded" || fmt.Sprint(long.Result) != "map[rows:7]" {
			t.Errorf("%s: %+v", id, long)
		}
		p.wants(p.does("logs", id, "long"), 0, "the water is high")
	}
	text, _ := os.ReadFile(notes)
	for _, line := range []string{"end w:1", "end w:2", "next w:1", "next w:2"} {
		if strings.Count(string(text), line) != 1 {
			t.Errorf("%q is not noted once:\n%s", line, text)
		}
	}
	for deadline := time.Now().Add(15 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		if now := workers(); len(now) == 1 && now[0] != first[0] {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("the worker of before does not leave: %v", workers())
		}
	}
}

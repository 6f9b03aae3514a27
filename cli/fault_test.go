package cli_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// smallDisk mounts a disk of so many megabytes on a folder of the person's home.
func (p *person) smallDisk(name string, megabytes int) string {
	p.t.Helper()
	dir := filepath.Join(p.home, name)
	if err := os.Mkdir(dir, 0o700); err != nil {
		p.t.Fatal(err)
	}
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, fmt.Sprintf("size=%dm", megabytes)); err != nil {
		p.t.Skipf("no disk can be mounted here: %v", err)
	}
	p.t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	return dir
}

// The disk of the data folder is full, and later again: the service says so,
// begins nothing that it cannot record, fails no task for it, and goes on by itself.
func TestADiskThatIsFull(t *testing.T) {
	p := newPerson(t)
	dir := p.smallDisk("lantern-data", 64)
	p.writes("w.yaml", "workflow: w\nif_running: alongside\ntasks:\n  a: {shell: 'sleep 0.2; echo reading'}\n  b: {after: a, shell: 'true'}\n")
	p.serves("--end-tasks")
	p.wants(p.does("apply", "w.yaml"), 0)
	p.wants(p.does("start", "w", "--follow"), 0)
	ballast := filepath.Join(dir, "ballast")
	fill := func() {
		file, err := os.Create(ballast)
		if err != nil {
			t.Fatal(err)
		}
		defer file.Close()
		for block := bytes.Repeat([]byte("x"), 64<<10); ; {
			if _, err := file.Write(block); err != nil {
				return
			}
		}
	}
	started := 1
	for n, fault := range []struct{ begin, end func() }{
		{fill, func() { _ = os.Remove(ballast) }},
		{fill, func() { _ = os.Remove(ballast) }},
	} {
		if s := p.does("start", "w"); s.code == 0 { // it runs into the fault
			started++
		}
		fault.begin()
		deadline := time.Now().Add(20 * time.Second)
		for told := ""; !strings.Contains(told, `"of":"worker`) && !strings.Contains(told, "cannot record"); time.Sleep(100 * time.Millisecond) {
			if told = p.gets("/api/health"); time.Now().After(deadline) {
				t.Fatalf("fault %d: it is not told: %s", n, told)
			}
			if s := p.does("start", "w"); s.code == 0 {
				started++
			} else if s.code != 1 && s.code != 2 && s.code != 3 {
				t.Errorf("it answered with %d: %s", s.code, s.err)
			}
		}
		if watch := p.gets("/api/watch"); !strings.Contains(watch, `"problem":"`) {
			t.Errorf("fault %d: Watch does not tell it: %.300s", n, watch)
		}
		fault.end()
		for {
			if health := p.gets("/api/health"); strings.Contains(health, `"state":"well"`) {
				break
			} else if time.Now().After(deadline.Add(20 * time.Second)) {
				t.Fatalf("fault %d: it does not get well: %s", n, health)
			}
			time.Sleep(100 * time.Millisecond)
		}
		p.wants(p.does("start", "w", "--follow"), 0, "● succeeded")
		started++
	}
	for n := range started {
		id := fmt.Sprintf("w:%d", n+1)
		p.wants(p.does("watch", id), 0)
		for _, task := range p.run(id).Tasks {
			if task.State != "succeeded" {
				t.Errorf("%s of %s is %s", task.Name, id, task.State)
			}
		}
	}
	p.wants(p.does("show", fmt.Sprintf("w:%d", started+1)), 2, "there is no run")
}

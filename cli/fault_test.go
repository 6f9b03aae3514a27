package cli_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"wiselantern/internal/testkit"
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

// until waits until what the service says of itself has a word in it, or has it no more.
func (p *person) until(path, word string, there bool) {
	p.t.Helper()
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		said := p.gets(path)
		if strings.Contains(said, word) == there {
			return
		}
		if time.Now().After(deadline) {
			p.t.Fatalf("%s: that it has %q does not come to be %v: %s", path, word, there, said)
		}
	}
}

// A limit on open files that is reached is told, and no task fails for it: what cannot be
// begun is begun when there are files again.
func TestTooManyOpenFiles(t *testing.T) {
	p := newPerson(t)
	service := p.serves("--end-tasks")
	p.writes("w.yaml", "workflow: w\nif_running: alongside\ntasks:\n  a: {shell: 'echo reading'}\n  b: {after: a, shell: 'true'}\n")
	p.wants(p.does("apply", "w.yaml"), 0)
	p.wants(p.does("start", "w", "--follow"), 0)
	worker := p.workers(t)[0]
	limit := func(pid, most int) {
		if out, err := exec.Command("prlimit", "--pid", fmt.Sprint(pid), fmt.Sprintf("--nofile=%d:", most)).CombinedOutput(); err != nil {
			t.Fatalf("prlimit: %v %s", err, out)
		}
	}
	files := func(pid int) int {
		all, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", pid))
		if err != nil {
			t.Fatal(err)
		}
		return len(all)
	}
	limit(worker, files(worker)-1)
	p.wants(p.does("start", "w"), 0)
	p.until("/api/health", `"of":"worker`, true)
	limit(service.Process.Pid, files(service.Process.Pid)+1)
	p.until("/api/health", `"of":"open files"`, true)
	p.until("/api/watch", "files", true)
	limit(service.Process.Pid, 4096)
	p.until("/api/health", `"of":"open files"`, false)
	limit(worker, 4096)
	p.until("/api/health", `"state":"well"`, true)
	p.wants(p.does("watch", "w:2"), 0)
	for _, task := range p.run("w:2").Tasks {
		if task.State != "succeeded" {
			t.Errorf("%s is %s", task.Name, task.State)
		}
	}
}

// workers are the processes of the workers of the person's data folder.
func (p *person) workers(t *testing.T) (pids []int) {
	t.Helper()
	locks, _ := filepath.Glob(filepath.Join(p.home, "*", "worker", "*", "lock"))
	for _, name := range locks {
		text, _ := os.ReadFile(name)
		var pid int
		if n, _ := fmt.Sscan(string(text), &pid); n == 1 {
			pids = append(pids, pid)
		}
	}
	if len(pids) == 0 {
		t.Fatal("there is no worker")
	}
	return pids
}

// Something holds the records for seconds: that commits take long is told while one does,
// and what waited is recorded.
func TestCommitsThatTakeLong(t *testing.T) {
	p := newPerson(t)
	p.serves("--end-tasks")
	p.writes("w.yaml", "workflow: w\ntasks: {a: {exec: [/bin/true]}}\n")
	p.wants(p.does("apply", "w.yaml"), 0)
	records, _ := filepath.Glob(filepath.Join(p.home, "*", "lantern.db"))
	if len(records) != 1 {
		t.Fatalf("the records are in %v", records)
	}
	db, err := sqlx.Open("sqlite3", "file:"+records[0]+"?_txlock=immediate")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	other, err := db.Begin()
	if err != nil {
		t.Fatal(err)
	}
	started := make(chan said, 1)
	go func() { started <- p.does("start", "w", "--follow") }()
	p.until("/api/health", "slow disk", true)
	if err := other.Rollback(); err != nil {
		t.Fatal(err)
	}
	p.wants(<-started, 0, "● succeeded")
	p.wants(p.does("start", "w", "--follow"), 0, "● succeeded")
	p.until("/api/health", "slow disk", false)
}

// A data folder on a disk that cannot be written is told at the start, with what to do,
// and is as it was.
func TestADiskThatCannotBeWritten(t *testing.T) {
	p := newPerson(t)
	dir := p.smallDisk("lantern-data", 64)
	service := p.serves("--end-tasks")
	p.writes("w.yaml", "workflow: w\ntasks: {a: {exec: [/bin/true]}}\n")
	p.wants(p.does("apply", "w.yaml"), 0)
	p.wants(p.does("start", "w", "--follow"), 0)
	if err := service.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	_ = service.Wait()
	p.endWorkers()
	flags := func(readOnly uintptr) {
		t.Helper()
		for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(50 * time.Millisecond) {
			err := syscall.Mount("", dir, "", syscall.MS_REMOUNT|readOnly, "")
			if err == nil {
				return
			}
			if time.Now().After(deadline) {
				t.Fatal(err)
			}
		}
	}
	flags(syscall.MS_RDONLY)
	p.wants(p.does("serve", "--listen", strings.TrimPrefix(p.server, "http://")), 1, "read-only", "writable")
	flags(0)
	p.serves("--end-tasks")
	p.wants(p.does("show", "w:1"), 0, "● succeeded")
}

// limitedMemory is a control group that has so many megabytes for all its processes.
func limitedMemory(t *testing.T, megabytes int) (group string) {
	t.Helper()
	root, limit := "/sys/fs/cgroup", "memory.max"
	if _, err := os.Stat(root + "/memory/memory.limit_in_bytes"); err == nil { // of before version 2
		root, limit = root+"/memory", "memory.limit_in_bytes"
	}
	group = filepath.Join(root, fmt.Sprintf("lantern-test-%d", os.Getpid()))
	if err := os.Mkdir(group, 0o755); err != nil {
		t.Skipf("memory cannot be limited here: %v", err)
	}
	t.Cleanup(func() {
		for range 50 { // its processes are to be gone
			if os.Remove(group) == nil {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
	})
	if err := os.WriteFile(filepath.Join(group, limit), fmt.Append(nil, megabytes<<20), 0o600); err != nil {
		t.Skipf("memory cannot be limited here: %v", err)
	}
	return group
}

// With little memory, a long log is kept as any other, and a task that takes all that
// there is fails, and tells why; the service and its worker go on.
func TestMemoryThatRunsOut(t *testing.T) {
	const megabytes = 200
	group := limitedMemory(t, megabytes)
	p := newPerson(t)
	p.writes("w.yaml", fmt.Sprintf("workflow: w\nif_running: alongside\ntasks: {long: {shell: 'yes a reading of the gauge at the dam | head -c %dm'}}\n---\nworkflow: small\ntasks: {a: {shell: 'echo reading'}}\n---\nworkflow: greedy\ntasks: {all: {shell: 'head -c %dm /dev/zero | tail > none'}}\n", 2*megabytes, 2*megabytes))
	p.program = filepath.Join(p.home, "limited")
	p.writes("limited", fmt.Sprintf("#!/bin/sh\necho $$ > %s/cgroup.procs || exit 1\nexec %s \"$@\"\n", group, testkit.Binary(t)))
	if err := os.Chmod(p.program, 0o700); err != nil {
		t.Fatal(err)
	}
	service := p.serves("--end-tasks")
	p.program = ""
	p.wants(p.does("apply", "w.yaml"), 0)
	worker := p.workers(t)[0]
	p.wants(p.does("start", "w", "--follow"), 0, "● succeeded")
	p.wants(p.does("start", "greedy", "--follow"), 1, "ended by SIGKILL, as the system does when memory runs out")
	p.wants(p.does("start", "small", "--follow"), 0, "● succeeded")
	if now := p.workers(t)[0]; now != worker || service.Process.Signal(syscall.Signal(0)) != nil {
		t.Errorf("the worker was process %d and is %d", worker, now)
	}
}

package cli_test

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// joins starts a worker of another machine and waits until it is listed.
func (p *person) joins(name, address string, more ...string) *exec.Cmd {
	p.t.Helper()
	c := p.command(append([]string{"worker", "--join", address, "--name", name, "--dir", name}, more...)...)
	c.Stderr = os.Stderr
	if err := c.Start(); err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(func() {
		_ = c.Process.Kill()
		_ = c.Wait()
	})
	p.eventually(name, "workers")
	return c
}

// eventually waits until a command says something.
func (p *person) eventually(what string, args ...string) {
	p.t.Helper()
	var s said
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		if s = p.does(args...); strings.Contains(s.out, what) {
			return
		}
	}
	p.t.Fatalf("lantern %s does not come to say %q, but\n%s%s", strings.Join(args, " "), what, s.out, s.err)
}

const upland = `workflow: upland
if_running: alongside
tasks:
  read:
    queue: upland
    exec: [bin/read]
  deep: {after: read, queue: deep, shell: 'true'}
`

// A worker of another machine joins over TLS with credentials of its own, takes tasks of
// its queue with the project's code, and its logs and results come back.
func TestAWorkerOfAnotherMachineJoins(t *testing.T) {
	p := newPerson(t)
	p.writes("rivers/lantern.yaml", "project: rivers\n")
	p.writes("rivers/workflows/upland.yaml", upland)
	p.writes("rivers/bin/read", "#!/bin/sh\necho the upland gauge reads 2.4\necho '{\"level\": 2.4}' > $LANTERN_RESULT\nsleep ${SLOW:-0}\n")
	service := p.command("serve", "--listen", strings.TrimPrefix(p.server, "http://"), "--workers-listen", "127.0.0.1:0", "--end-tasks")
	out, err := service.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	service.Stderr = os.Stderr
	if err := service.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = service.Process.Signal(syscall.SIGTERM)
		_ = service.Wait()
		p.endWorkers()
	})
	address := ""
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if _, at, ok := strings.Cut(lines.Text(), "join at "); ok {
			address = at
		}
		if strings.Contains(lines.Text(), "/sign-in#code=") {
			break
		}
	}
	if !strings.HasPrefix(address, "tls://127.0.0.1:") {
		t.Fatalf("it does not say where workers join: %q", address)
	}
	p.wants(p.does("apply", "rivers"), 0)
	p.wants(p.does("start", "upland"), 0)
	p.wants(p.does("workers", "admit", "a.b"), 2, "is no name")
	admitted := p.does("workers", "admit", "field-1")
	p.wants(admitted, 0, "BEGIN CERTIFICATE", "NKEY SEED", "lantern worker --join "+address)
	p.writes("field-1.credentials", admitted.out)
	other := p.does("workers", "admit", "field-2")
	p.writes("field-2.credentials", other.out)

	p.wants(p.does("worker", "--join", address), 1, "cannot be joined")
	p.wants(p.does("worker", "--join", address, "--credentials", "rivers/lantern.yaml"), 1, "holds no credentials", "lantern workers admit")
	p.wants(p.does("worker", "--join", strings.Replace(address, "tls", "nats", 1), "--name", "field-1"), 1, "cannot be joined")
	p.wants(p.does("show", "upland:1"), 0, "no worker takes from the queue upland")

	worker := p.joins("field-1", address, "--credentials", "field-1.credentials", "--queue", "upland", "--slots", "3", "--label", "site=dam")
	p.eventually("● 1", "show", "upland:1")
	run := p.run("upland:1")
	if read := run.Tasks[0]; read.State != "succeeded" || read.Attempts[0].Worker != "field-1" || read.Result["level"] != 2.4 {
		t.Errorf("%+v", read)
	}
	p.wants(p.does("logs", "upland:1", "read"), 0, "the upland gauge reads 2.4")
	p.wants(p.does("workers"), 0, "field-1", "upland", "0 of 3", "site=dam")

	// It speaks in its own name only: as another, the service does not hear it.
	imposter := p.command("worker", "--join", address, "--name", "field-1", "--dir", "imposter", "--credentials", "field-2.credentials", "--queue", "deep")
	if err := imposter.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(time.Second)
	if s := p.does("workers"); strings.Contains(s.out, "deep") {
		t.Errorf("a worker speaks in the name of another:\n%s", s.out)
	}
	_ = imposter.Process.Kill()
	_ = imposter.Wait()

	p.wants(p.does("workers", "drain", "field-9"), 2, `there is no worker "field-9"`)
	p.wants(p.does("workers", "drain", "field-1"), 0, "takes no more tasks")
	p.wants(p.does("workers"), 0, "drains")
	p.wants(p.does("workers", "resume", "field-1"), 0, "takes tasks again")
	if err := worker.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := worker.Wait(); err != nil {
		t.Errorf("it ended with %v", err)
	}
	if left, _ := filepath.Glob(filepath.Join(p.home, "field-1", "*", "lock")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	p.wants(p.does("workers", "dismiss", "field-1"), 0, "can join no more")
	p.wants(p.does("workers", "dismiss", "field-1"), 2, "there is no worker")
	p.wants(p.does("worker", "--join", address, "--name", "field-1", "--credentials", "field-1.credentials"), 1, "cannot be joined")
}

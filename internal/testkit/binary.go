package testkit

import (
	"bufio"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"wiselantern/client"
)

var built = sync.OnceValues(func() (string, error) {
	if name := os.Getenv("LANTERN_BINARY"); name != "" {
		return name, nil
	}
	name := filepath.Join(os.TempDir(), fmt.Sprintf("lantern-under-test-%d", os.Getpid()))
	out, err := exec.Command("go", "build", "-o", name, "wiselantern/cmd/lantern").CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	return name, nil
})

// Binary is the built lantern: the one that LANTERN_BINARY names, as make test does,
// or one that is built here.
func Binary(t testing.TB) string {
	t.Helper()
	name, err := built()
	if err != nil {
		t.Fatal(err)
	}
	return name
}

// Process is a service that runs as a process of its own, from the built binary.
type Process struct {
	*Service
	Command *exec.Cmd

	listen string
	args   []string
}

// Serve starts lantern serve on that data folder, at a free address, with further
// arguments. It and its worker are ended when the test ends.
func Serve(t testing.TB, dir string, args ...string) *Process {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	listener.Close()
	p := &Process{listen: listener.Addr().String(), args: args, Service: &Service{Dir: dir}}
	p.Begin(t)
	t.Cleanup(func() {
		p.Kill(t)
		EndWorkers(dir)
	})
	return p
}

// Begin starts it, again after Kill.
func (p *Process) Begin(t testing.TB) {
	t.Helper()
	p.Command = exec.Command(Binary(t), append([]string{"serve", "--data", p.Dir, "--listen", p.listen}, p.args...)...)
	p.Command.Env = append(os.Environ(), "XDG_STATE_HOME="+filepath.Join(p.Dir, "state"), "NO_COLOR=1")
	if testing.Verbose() {
		p.Command.Stderr = os.Stderr
	}
	out, err := p.Command.StdoutPipe()
	if err == nil {
		err = p.Command.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	up := false
	for lines := bufio.NewScanner(out); !up && lines.Scan(); {
		up = strings.Contains(lines.Text(), "/sign-in#code=")
	}
	if !up {
		t.Fatal("the service ended before it said where it is")
	}
	token, err := os.ReadFile(filepath.Join(p.Dir, "token"))
	if err != nil {
		t.Fatal(err)
	}
	p.Address, p.Token = "http://"+p.listen, strings.TrimSpace(string(token))
	p.Client = client.New(p.Address, p.Token, "kari")
}

// Kill ends it with SIGKILL.
func (p *Process) Kill(t testing.TB) {
	t.Helper()
	_ = p.Command.Process.Kill()
	_ = p.Command.Wait()
}

// Signal sends it a signal and waits for its end.
func (p *Process) Signal(t testing.TB, s os.Signal) {
	t.Helper()
	if err := p.Command.Process.Signal(s); err != nil {
		t.Fatal(err)
	}
	_ = p.Command.Wait()
}

// EndWorkers kills the workers of a data folder, which outlive their service.
func EndWorkers(dir string) {
	locks, _ := filepath.Glob(filepath.Join(dir, "worker", "*", "lock"))
	for _, name := range locks {
		text, _ := os.ReadFile(name)
		var pid int
		if n, _ := fmt.Sscan(string(text), &pid); n == 1 && pid > 1 {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	}
	time.Sleep(10 * time.Millisecond)
}

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

// Serve starts lantern serve from the built binary on that data folder, at a free
// address, with further arguments. It and its worker are killed when the test ends.
func Serve(t testing.TB, dir string, args ...string) *Service {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	listener.Close()
	address := listener.Addr().String()
	command := exec.Command(Binary(t), append([]string{"serve", "--data", dir, "--listen", address}, args...)...)
	command.Env = append(os.Environ(), "XDG_STATE_HOME="+filepath.Join(dir, "state"), "NO_COLOR=1")
	if testing.Verbose() {
		command.Stderr = os.Stderr
	}
	out, err := command.StdoutPipe()
	if err == nil {
		err = command.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = command.Process.Kill()
		_ = command.Wait()
		EndWorkers(dir)
	})
	up := false
	for lines := bufio.NewScanner(out); !up && lines.Scan(); {
		up = strings.Contains(lines.Text(), "/sign-in#code=")
	}
	if !up {
		t.Fatal("the service ended before it said where it is")
	}
	token, err := os.ReadFile(filepath.Join(dir, "token"))
	if err != nil {
		t.Fatal(err)
	}
	s := &Service{Dir: dir, Address: "http://" + address, Token: strings.TrimSpace(string(token))}
	s.Client = client.New(s.Address, s.Token, "kari")
	return s
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

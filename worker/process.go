package worker

import (
	"errors"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// process is a process that was started, until it is waited for.
type process struct {
	pid    int
	handle int // a file that can be read when the process has ended (pidfd_open(2)), -1 where the system has none
}

// end is how a process ended.
type end struct {
	status syscall.WaitStatus
	used   syscall.Rusage
}

// wait waits until the process has ended; nil says that the system does not tell how.
func (p process) wait() *end {
	if p.handle >= 0 {
		defer unix.Close(p.handle)
	}
	var e end
	for {
		_, err := syscall.Wait4(p.pid, &e.status, 0, &e.used)
		if err == nil {
			return &e
		}
		if !errors.Is(err, syscall.EINTR) {
			return nil
		}
	}
}

// cpu is the processor time of the process and of those that it waited for.
func (e *end) cpu() time.Duration {
	return time.Duration(e.used.Utime.Nano() + e.used.Stime.Nano())
}

package worker

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"wiselantern/parcel"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
	"wiselantern/worker/kinds"
)

// attempt is one attempt while it is executed.
type attempt struct {
	worker     *Worker
	order      dispatch.Order
	cancelled  <-chan struct{}
	folder     string // its work folder
	shared     bool   // something of it may still be in its folder
	started    time.Time
	lines      int // that its log has
	told       sync.Once
	resultless bool   // it was seen that it has left no result
	peak       int64  // bytes of memory that its process was seen to have at most
	ready      string // the folder that the project's setup has made ready, "" without a setup
}

// maxResult is the most that a result may have, in bytes.
const maxResult = 256 << 10

// resultFile is the file of its result. Its name is of this attempt alone, and by it what
// is left of the attempt's processes is found.
func (a *attempt) resultFile() string { return resultFile(a.worker.Home, a.order.AttemptID) }

func resultFile(home string, id dispatch.AttemptID) string {
	return filepath.Join(home, "results", id.String()+".json")
}

// execute runs the task and waits for its end.
func (a *attempt) execute() dispatch.Ended {
	if err := a.prepare(); err != nil {
		if ofMachine(err) {
			return a.worker.cannot("the work folder cannot be made", err)
		}
		return failed(fmt.Sprintf("the work folder cannot be made: %v", err))
	}
	if report, ok := a.setUp(); !ok {
		return report
	}
	words, err := kinds.Command(a.order)
	if err != nil {
		return failed(err.Error())
	}
	env := a.env()
	path, code, err := findProgram(words[0], a.folder, env)
	if err != nil {
		return failedWith(code, err.Error())
	}
	return a.run(program{path, words, env, a.folder}, a.order.Timeout)
}

// tellStarted says, once, that the attempt has begun. It is said when a process of it
// is there: recording it must not take the time away in which that begins.
func (a *attempt) tellStarted() {
	a.told.Do(func() {
		a.worker.exchange.Started(dispatch.Started{AttemptID: a.order.AttemptID, Worker: a.worker.Name, At: a.started})
	})
}

func failed(reason string) dispatch.Ended {
	return dispatch.Ended{Outcome: dispatch.Failed, Error: reason}
}

func failedWith(code int, reason string) dispatch.Ended {
	return dispatch.Ended{Outcome: dispatch.Failed, Error: reason, ExitCode: &code}
}

// ofMachine tells whether an error is the machine's fault and not the task's: a full or
// read-only disk, too many open files or processes, no memory.
func ofMachine(err error) bool {
	for _, one := range []error{syscall.ENOSPC, syscall.EDQUOT, syscall.EROFS, syscall.EIO, syscall.EMFILE, syscall.ENFILE, syscall.ENOMEM, syscall.EAGAIN} {
		if errors.Is(err, one) {
			return true
		}
	}
	return false
}

// cannot is the report of an attempt that this machine could not even begin: it is made
// again, and no orders are taken for a while.
func (w *Worker) cannot(what string, err error) dispatch.Ended {
	reason := fmt.Sprintf("%s on this machine now: %v", what, err)
	w.exchange.Rest(reason)
	return dispatch.Ended{Outcome: dispatch.Lost, Error: reason}
}

func (a *attempt) prepare() error {
	err := a.worker.journal.take(a.order.AttemptID)
	if err == nil {
		a.folder, err = a.worker.folders.take()
	}
	if err != nil {
		return err
	}
	if a.order.Parcel == "" {
		return nil
	}
	from, err := a.worker.parcelDir(a.order.Parcel)
	if err != nil {
		return err
	}
	return parcel.Lay(from, a.folder)
}

// keep sends lines on to be kept, behind those that the log has.
func (a *attempt) keep(lines []store.Line) {
	m := dispatch.Log{AttemptID: a.order.AttemptID, First: a.lines, Lines: lines}
	a.lines += len(lines)
	a.worker.again("lines of a log", func(ctx context.Context) error { return a.worker.exchange.Log(ctx, m) })
}

// run runs a program in a process group of its own, for at most that long if
// timeout is not 0, and keeps what it prints.
func (a *attempt) run(p program, timeout time.Duration) dispatch.Ended {
	out := newOutput(a.keep)
	stdout, stderr, err := out.open()
	if err != nil && ofMachine(err) {
		return a.worker.cannot("no pipe can be made for its output", err)
	}
	if err != nil {
		return failed(fmt.Sprintf("no pipe can be made for its output: %v", err))
	}
	process, err := p.start(a.worker.noInput.Fd(), stdout, stderr)
	_, _ = unix.Close(int(stdout)), unix.Close(int(stderr))
	if err != nil && ofMachine(err) {
		out.close(0)
		return a.worker.cannot("its program cannot be started", err)
	}
	if err != nil {
		out.close(0)
		return failedWith(p.whyNot(err))
	}
	a.tellStarted()
	end, why := a.waitFor(process, out, timeout)
	// What it left running in its group is not to outlive it.
	_ = syscall.Kill(-process.pid, syscall.SIGKILL)
	a.shared = !out.close(lastWords) || a.shared
	report := a.judge(why, end, out.lastError())
	if why == byTimeout {
		report.Error = fmt.Sprintf("over its timeout of %v, %s", timeout, orEnded(report.Error))
	}
	return report
}

// ending is why an attempt was ended before it ended by itself.
type ending int

const (
	byItself ending = iota
	byTimeout
	byCancel
	byStop
)

// earlyFor is how long a process is looked after by one thread alone.
const earlyFor = 20 * time.Millisecond

// waitFor waits until the process has ended, and ends it when it must. It reads what the
// process prints, at its beginning by itself.
func (a *attempt) waitFor(process process, out *output, timeout time.Duration) (last *end, why ending) {
	longest, began := earlyFor, time.Now()
	if timeout > 0 {
		longest = min(longest, timeout)
	}
	if process.handle >= 0 && out.early(process.handle, longest) { // without a handle, it is followed at once
		return process.wait(), byItself
	}
	if timeout > 0 {
		timeout = max(timeout-time.Since(began), 1)
	}
	out.follow()
	ended := make(chan *end, 1)
	go func() { ended <- process.wait() }()
	return a.wait(process.pid, ended, timeout)
}

// wait waits until the process has ended, and ends it when it must.
func (a *attempt) wait(pid int, ended <-chan *end, longest time.Duration) (last *end, why ending) {
	var timeout <-chan time.Time
	if longest > 0 {
		timer := time.NewTimer(longest)
		defer timer.Stop()
		timeout = timer.C
	}
	grace := graceOfTask
	sample := time.NewTimer(firstSample)
	defer sample.Stop()
	for going := true; going; {
		select {
		case last := <-ended:
			return last, byItself
		case <-sample.C:
			a.peak = max(a.peak, peakOf(pid))
			sample.Reset(nextSample)
			continue
		case <-timeout:
			why = byTimeout
		case <-a.cancelled:
			why = byCancel
		case <-a.worker.stopping:
			why, grace = byStop, graceOfStop
		}
		going = false
	}
	_ = syscall.Kill(-pid, syscall.SIGTERM)
	kill := time.NewTimer(grace)
	defer kill.Stop()
	stopping := a.worker.stopping
	for {
		select {
		case last := <-ended:
			return last, why
		case <-stopping:
			stopping = nil
			kill.Reset(graceOfStop)
		case <-kill.C:
			_ = syscall.Kill(-pid, syscall.SIGKILL)
		}
	}
}

// judge makes the report of a process that has ended, the last line of whose
// standard error was lastError.
func (a *attempt) judge(why ending, last *end, lastError string) dispatch.Ended {
	if last == nil {
		return dispatch.Ended{Outcome: dispatch.Lost, Error: "the system does not tell how its process ended"}
	}
	a.resultless = false
	report := dispatch.Ended{Outcome: dispatch.Succeeded}
	report.CPU, report.Peak = last.cpu(), last.peak(a.peak)
	if status := last.status; status.Exited() {
		code := status.ExitStatus()
		report.ExitCode = &code
		if code != 0 {
			report.Outcome, report.Error = dispatch.Failed, explainExit(code, lastError)
		}
	} else {
		report.Outcome, report.Error = dispatch.Failed, "ended by "+signalName(status.Signal())
		if why == byItself {
			report.Error = endedBy(status.Signal())
		}
	}
	switch {
	case why == byTimeout:
		report.Outcome = dispatch.Failed
		return report
	case report.Outcome == dispatch.Succeeded:
		var err error
		report.Result, err = a.result()
		if a.resultless = errors.Is(err, errNoResult); a.resultless {
			err = nil
		}
		if err != nil {
			report.Outcome, report.Error = dispatch.Failed, err.Error()
		}
	case why == byCancel:
		report.Outcome = dispatch.Stopped
	case why == byStop:
		report.Outcome, report.Error = dispatch.Lost, "its worker was stopped while it ran"
	}
	return report
}

func orEnded(reason string) string {
	if reason == "" {
		return "ended when asked to"
	}
	return reason
}

// explainExit says what an exit code means; most programs say it themselves, in
// their last line.
func explainExit(code int, lastError string) string {
	text := fmt.Sprintf("exit code %d", code)
	if signal := syscall.Signal(code - codeSignalled); code > codeSignalled && signalNames[signal] != "" {
		text += " (a program in it was " + endedBy(signal) + ")"
	}
	switch {
	case lastError != "":
		return text + ": " + lastError
	case code == codeNotExecutable:
		return text + ": a program in it is not executable"
	case code == codeNotFound:
		return text + ": a program in it was not found"
	}
	return text
}

// endedBy says that a signal ended a program which its worker did not send.
func endedBy(s syscall.Signal) string {
	if s == syscall.SIGKILL {
		return "ended by SIGKILL, as the system does when memory runs out"
	}
	return "ended by " + signalName(s)
}

var signalNames = map[syscall.Signal]string{syscall.SIGTERM: "SIGTERM", syscall.SIGKILL: "SIGKILL", syscall.SIGSEGV: "SIGSEGV", syscall.SIGABRT: "SIGABRT",
	syscall.SIGINT: "SIGINT", syscall.SIGHUP: "SIGHUP", syscall.SIGPIPE: "SIGPIPE", syscall.SIGBUS: "SIGBUS", syscall.SIGFPE: "SIGFPE"}

func signalName(s syscall.Signal) string {
	if name, ok := signalNames[s]; ok {
		return name
	}
	return fmt.Sprintf("signal %d", s)
}

// errNoResult says that a task has left no result.
var errNoResult = errors.New("there is no result")

// result reads what the task left as its result. Most leave none, and where one would be
// is looked up without the way to its folder.
func (a *attempt) result() (json.RawMessage, error) {
	name := a.resultFile()
	var is unix.Stat_t
	if err := unix.Fstatat(int(a.worker.results.Fd()), filepath.Base(name), &is, 0); errors.Is(err, unix.ENOENT) {
		return nil, errNoResult
	}
	return readResult(name)
}

// readResult reads the JSON object that a task left, nil if what it left is empty.
func readResult(name string) (json.RawMessage, error) {
	file, err := os.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, errNoResult
	}
	if err != nil {
		return nil, fmt.Errorf("its result cannot be read: %w", err)
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, maxResult+1))
	switch {
	case err != nil:
		return nil, fmt.Errorf("its result cannot be read: %w", err)
	case len(bytes.TrimSpace(text)) == 0:
		return nil, nil
	case len(text) > maxResult:
		return nil, fmt.Errorf("its result has over %d KB; write large data elsewhere and leave its place as the result", maxResult>>10)
	}
	var object map[string]any
	if err := json.Unmarshal(text, &object); err != nil || object == nil {
		return nil, fmt.Errorf("its result is not a JSON object; write one to the file that LANTERN_RESULT names, as in {\"rows\": 12}")
	}
	var compact bytes.Buffer
	if err := json.Compact(&compact, text); err != nil {
		return nil, fmt.Errorf("its result is not a JSON object: %w", err)
	}
	return compact.Bytes(), nil
}

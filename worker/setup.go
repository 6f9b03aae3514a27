package worker

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"wiselantern/parcel"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
	"wiselantern/worker/kinds"
)

// A project's setup is done once for each parcel and worker, in a copy of the
// parcel that stays where it is. Tasks find it by LANTERN_SETUP, and what it has
// made beside the project's own files by links in their work folders.

// setups are those that are being done, by the folder that they make ready.
type setups struct {
	mu   sync.Mutex
	done map[string]chan struct{} // closed when the one that does it has ended
}

// begin is nil if the caller is to do the setup, and end is then to be called;
// or else closed when another one has ended.
func (s *setups) begin(dir string) (other <-chan struct{}) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if other := s.done[dir]; other != nil {
		return other
	}
	if s.done == nil {
		s.done = map[string]chan struct{}{}
	}
	s.done[dir] = make(chan struct{})
	return nil
}

func (s *setups) end(dir string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	close(s.done[dir])
	delete(s.done, dir)
}

// setUp makes the project's folder ready, if it has a setup that was not done on
// this worker yet. If that fails, so does the attempt, with the report.
func (a *attempt) setUp() (report dispatch.Ended, ok bool) {
	if a.order.Setup == nil || a.order.Parcel == "" {
		return report, true
	}
	text, err := json.Marshal(a.order.Setup)
	if err != nil {
		return failed("the setup cannot be written down: " + err.Error()), false
	}
	sum := sha256.Sum256(text)
	dir := filepath.Join(a.worker.Dir, "setups", a.order.Parcel+"-"+hex.EncodeToString(sum[:6]))
	for {
		if _, err := os.Stat(dir + ".done"); err == nil {
			break
		}
		other := a.worker.setups.begin(dir)
		if other == nil {
			report = a.setUpIn(dir)
			a.worker.setups.end(dir)
			if report.Outcome != dispatch.Succeeded {
				return report, false
			}
			break
		}
		a.tellStarted()
		a.note("another task is just doing the setup of the project")
		select {
		case <-other:
		case <-a.cancelled:
			return dispatch.Ended{Outcome: dispatch.Stopped, Error: "stopped while it waited for the setup of the project"}, false
		case <-a.worker.stopping:
			return dispatch.Ended{Outcome: dispatch.Lost, Error: "its worker was stopped while it waited for the setup of the project"}, false
		}
	}
	a.ready = dir
	if err := linkNew(dir, a.folder); err != nil {
		return failed(fmt.Sprintf("what the setup of the project made cannot be linked: %v", err)), false
	}
	return report, true
}

// setUpIn does the setup in a new copy of the parcel.
func (a *attempt) setUpIn(dir string) dispatch.Ended {
	from, err := a.worker.parcelDir(a.order.Parcel)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(dir), 0o700)
	}
	if err == nil {
		err = os.RemoveAll(dir) // of one that was not finished
	}
	if err == nil {
		err = parcel.Copy(from, dir)
	}
	if err != nil {
		return failed(fmt.Sprintf("the folder for the setup of the project cannot be made: %v", err))
	}
	s := a.order.Setup
	kind := "exec"
	if s.Shell != "" {
		kind = "shell"
	}
	words, err := kinds.Command(dispatch.Order{Kind: kind, Exec: s.Exec, Shell: s.Shell, TaskName: "setup"})
	if err != nil {
		return failed(err.Error())
	}
	a.ready = dir
	env := a.environment(dir, s.Env, nil)
	a.ready = ""
	path, _, err := findProgram(words[0], dir, env)
	if err != nil {
		return failed("setup of the project: " + err.Error())
	}
	a.note("setup of the project, before its first task on this worker")
	began := time.Now()
	report := a.run(program{path, words, env, dir}, s.Timeout)
	report.ExitCode, report.Result = nil, nil // they would be taken for the task's
	_ = os.Remove(a.resultFile())
	if report.Outcome == dispatch.Succeeded {
		if err := writeWhole(dir+".done", nil); err != nil {
			return failed(fmt.Sprintf("the setup of the project is done, and that cannot be written down: %v", err))
		}
		a.note(fmt.Sprintf("setup done in %v", time.Since(began).Round(time.Millisecond)))
		return report
	}
	report.Error = "setup of the project: " + report.Error
	return report
}

// note puts a line of the worker's own into the log.
func (a *attempt) note(text string) {
	a.keep([]store.Line{{At: time.Now(), Error: true, Text: []byte("lantern: " + text)}})
}

// linkNew links what is in the folder from and not in the folder to.
func linkNew(from, to string) error {
	entries, err := os.ReadDir(from)
	if err != nil {
		return err
	}
	for _, entry := range entries {
		err := os.Symlink(filepath.Join(from, entry.Name()), filepath.Join(to, entry.Name()))
		if err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	return nil
}

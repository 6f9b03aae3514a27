package worker

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"
	"time"

	"wiselantern/service/dispatch"
)

// deliver says a report until it is acknowledged.
func (w *Worker) deliver(report dispatch.Ended, j *journal) {
	heard := false
	w.again("the report of an attempt", func(ctx context.Context) error {
		err := w.exchange.Ended(ctx, report)
		heard = err == nil
		return err
	})
	if !heard {
		return
	}
	if err := j.recorded(report.AttemptID); err != nil {
		w.Log.Warn("that a report is acknowledged cannot be noted; it is said again by the next worker, and recorded once", "attempt", report.AttemptID.String(), "error", err)
	}
}

// Left are attempts that a worker which has ended had taken.
type Left struct {
	home    string
	lock    *os.File // held, so that no other worker looks too
	journal *journal
	reports []dispatch.Ended
}

// Instance is the worker; "" for one of a time without homes.
func (l Left) Instance() string {
	if l.lock == nil {
		return ""
	}
	return filepath.Base(l.home)
}

// IDs are the attempts.
func (l Left) IDs() (ids []dispatch.AttemptID) {
	for _, r := range l.reports {
		ids = append(ids, r.AttemptID)
	}
	return ids
}

// Look looks for what became of the attempts that another worker had taken, which has
// ended and whose home that was: the report that is on disk, or, when there is none,
// that the attempt is lost. What is left of its processes is killed.
func (w *Worker) Look(home string) (Left, error) {
	left := Left{home: home}
	lock, err := os.Open(filepath.Join(home, "lock"))
	if err != nil && home != w.Dir {
		return left, nil // another one has cleared it away
	}
	if err == nil {
		if syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
			return left, lock.Close() // it lives, or another one looks
		}
		left.lock = lock
	}
	if left.journal, err = openJournal(home); err != nil {
		return Left{}, errors.Join(err, lock.Close())
	}
	marks := foldersOfBefore(home, left.journal.open)
	for id, report := range left.journal.open {
		if report == nil {
			mark, old := marks[id]
			if !old {
				mark = resultFile(home, id)
			}
			killed := killLeft("LANTERN_RESULT=" + mark)
			w.Log.Info("an attempt was cut off by the end of its worker", "attempt", id.String(), "processes_killed", killed)
			report = &dispatch.Ended{AttemptID: id, Worker: w.Name, At: time.Now(), Outcome: dispatch.Lost, Error: "its worker ended while it ran"}
			if err := left.journal.end(*report); err != nil {
				w.Log.Warn("what became of an attempt cannot be kept on disk until it is acknowledged", "attempt", id.String(), "error", err)
			}
		}
		left.reports = append(left.reports, *report)
	}
	return left, nil
}

// foldersOfBefore adds what is in a home of a worker that had no journal yet, but a
// folder for each attempt. It tells the file of each attempt's result.
func foldersOfBefore(home string, open map[dispatch.AttemptID]*dispatch.Ended) map[dispatch.AttemptID]string {
	marks := map[dispatch.AttemptID]string{}
	folders, _ := filepath.Glob(filepath.Join(home, "attempts", "*"))
	for _, dir := range folders {
		id, err := dispatch.ParseAttemptID(filepath.Base(dir))
		if err != nil {
			continue // not ours
		}
		marks[id] = filepath.Join(dir, "result.json")
		if open[id] != nil {
			continue
		}
		open[id] = nil
		var report dispatch.Ended
		if text, err := os.ReadFile(filepath.Join(dir, "report.json")); err == nil && json.Unmarshal(text, &report) == nil && report.AttemptID == id {
			open[id] = &report
		}
	}
	return marks
}

// reportsAtOnce bounds how many reports of an earlier worker are under way.
const reportsAtOnce = 256

// Recover reports what another worker has left, returns when all of it is
// acknowledged, and removes its home.
func (w *Worker) Recover(ctx context.Context, left Left) error {
	if left.journal == nil {
		return nil
	}
	if left.lock != nil {
		defer left.lock.Close()
	}
	room := make(chan struct{}, reportsAtOnce)
	var group sync.WaitGroup
	for _, report := range left.reports {
		select {
		case room <- struct{}{}:
		case <-ctx.Done():
		}
		group.Go(func() {
			defer func() { <-room }()
			w.deliver(report, left.journal)
		})
	}
	group.Wait()
	left.journal.mu.Lock()
	unsaid := len(left.journal.open)
	left.journal.mu.Unlock()
	if err := left.journal.close(); unsaid > 0 || err != nil {
		return err // some are not acknowledged: they stay
	}
	if left.home != w.Dir {
		return os.RemoveAll(left.home)
	}
	for _, name := range []string{"spare", "attempts", journalName} { // as it was before workers had homes
		if err := os.RemoveAll(filepath.Join(left.home, name)); err != nil {
			return err
		}
	}
	return nil
}

// killLeft kills the processes that have the setting in their environment, and
// tells how many there were. It looks again until there is none, because they
// may be starting others.
func killLeft(setting string) (killed int) {
	for range 50 {
		found := false
		environments, _ := filepath.Glob("/proc/[0-9]*/environ")
		for _, name := range environments {
			text, err := os.ReadFile(name)
			if err != nil || !bytes.Contains(append([]byte{0}, text...), append(append([]byte{0}, setting...), 0)) {
				continue
			}
			pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(name)))
			if pid > 1 && pid != os.Getpid() && syscall.Kill(pid, syscall.SIGKILL) == nil {
				found = true
				killed++
			}
		}
		if !found {
			return killed
		}
		time.Sleep(10 * time.Millisecond)
	}
	return killed
}

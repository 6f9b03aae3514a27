package worker

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"
	"time"

	"wiselantern/service/dispatch"
)

// write writes a report to disk, where it stays until it is acknowledged.
func (w *Worker) write(report dispatch.Ended, dir string) {
	text, err := json.Marshal(report)
	if err == nil {
		err = writeWhole(filepath.Join(dir, "report.json"), text)
	}
	if err != nil {
		w.Log.Warn("a report cannot be kept on disk until it is acknowledged", "attempt", report.AttemptID.String(), "error", err)
	}
}

// deliver says a report until it is acknowledged, and then removes the attempt's
// folder.
func (w *Worker) deliver(report dispatch.Ended, dir string) {
	heard := false
	w.again("the report of an attempt", func(ctx context.Context) error {
		err := w.exchange.Ended(ctx, report)
		heard = err == nil
		return err
	})
	if heard {
		w.remove(dir)
	}
}

// writeWhole writes a file that is either there whole or not at all.
func writeWhole(name string, text []byte) error {
	if err := os.WriteFile(name+".part", text, 0o600); err != nil {
		return err
	}
	return os.Rename(name+".part", name)
}

func (w *Worker) remove(dir string) {
	if err := os.RemoveAll(dir); err != nil {
		w.Log.Warn("the folder of an attempt cannot be removed; remove it by hand", "folder", dir, "error", err)
	}
}

// Left are attempts that a worker which has ended had taken.
type Left struct {
	home    string
	lock    *os.File // held, so that no other worker looks too
	reports []dispatch.Ended
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
	if lock, err := os.Open(filepath.Join(home, "lock")); err == nil {
		if syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
			return left, lock.Close() // it lives, or another one looks
		}
		left.lock = lock
	}
	entries, err := os.ReadDir(filepath.Join(home, "attempts"))
	if errors.Is(err, fs.ErrNotExist) {
		return left, nil
	}
	if err != nil {
		return left, fmt.Errorf("look for attempts of before: %w", err)
	}
	for _, entry := range entries {
		dir := filepath.Join(home, "attempts", entry.Name())
		id, err := dispatch.ParseAttemptID(entry.Name())
		if err != nil {
			continue // not ours
		}
		var report dispatch.Ended
		text, err := os.ReadFile(filepath.Join(dir, "report.json"))
		if err != nil || json.Unmarshal(text, &report) != nil || report.AttemptID != id {
			killed := killLeft("LANTERN_RESULT=" + filepath.Join(dir, "result.json"))
			w.Log.Info("an attempt was cut off by the end of its worker", "attempt", id.String(), "processes_killed", killed)
			report = dispatch.Ended{AttemptID: id, Worker: w.Name, At: time.Now(), Outcome: dispatch.Lost, Error: "its worker ended while it ran"}
			w.write(report, dir)
		}
		left.reports = append(left.reports, report)
	}
	return left, nil
}

// reportsAtOnce bounds how many reports of an earlier worker are under way.
const reportsAtOnce = 256

// Recover reports what another worker has left, returns when all of it is
// acknowledged, and removes its home.
func (w *Worker) Recover(ctx context.Context, left Left) error {
	if left.lock != nil {
		defer left.lock.Close()
	} else if left.home != w.Dir {
		return nil
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
			w.deliver(report, filepath.Join(left.home, "attempts", report.AttemptID.String()))
		})
	}
	group.Wait()
	if entries, err := os.ReadDir(filepath.Join(left.home, "attempts")); len(entries) > 0 {
		return err // some are not acknowledged: they stay
	}
	if left.home == w.Dir { // as it was before workers had homes
		_ = os.RemoveAll(filepath.Join(left.home, "spare"))
		return os.RemoveAll(filepath.Join(left.home, "attempts"))
	}
	return os.RemoveAll(left.home)
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

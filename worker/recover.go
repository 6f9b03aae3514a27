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
	"syscall"
	"time"

	"wiselantern/service/dispatch"
)

// deliver writes a report to disk, says it until it is acknowledged, and then
// removes the attempt's folder.
func (w *Worker) deliver(report dispatch.Ended, dir string) {
	text, err := json.Marshal(report)
	if err == nil {
		err = writeWhole(filepath.Join(dir, "report.json"), text)
	}
	if err != nil {
		w.Log.Warn("a report cannot be kept on disk until it is acknowledged", "attempt", report.AttemptID.String(), "error", err)
	}
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

// Recover says what became of the attempts that an earlier worker of this
// folder had taken: the report that is on disk, or, when there is none, that the
// attempt is lost. What is left of its processes is killed before.
func (w *Worker) Recover(ctx context.Context) error {
	entries, err := os.ReadDir(filepath.Join(w.Dir, "attempts"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("look for attempts of before: %w", err)
	}
	for _, entry := range entries {
		dir := filepath.Join(w.Dir, "attempts", entry.Name())
		id, err := dispatch.ParseAttemptID(entry.Name())
		if err != nil {
			continue // not ours
		}
		var report dispatch.Ended
		text, err := os.ReadFile(filepath.Join(dir, "report.json"))
		if err != nil || json.Unmarshal(text, &report) != nil || report.AttemptID != id {
			killed := killLeft("LANTERN_RESULT=" + filepath.Join(dir, "result.json"))
			w.Log.Info("an attempt was cut off by the end of the service", "attempt", id.String(), "processes_killed", killed)
			report = dispatch.Ended{AttemptID: id, Worker: w.Name, At: time.Now(), Outcome: dispatch.Lost, Error: "the service ended while it ran"}
		}
		if err := w.exchange.Ended(ctx, report); err != nil {
			return fmt.Errorf("report attempt %s: %w", id, err)
		}
		w.remove(dir)
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

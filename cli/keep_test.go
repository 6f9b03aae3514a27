package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// A backup is taken while runs are made without a pause; what was in it is all there
// afterwards, and the service goes on from it.
func TestABackupIsTakenAndRestored(t *testing.T) {
	p := newPerson(t)
	p.writes("lantern.yaml", project)
	p.writes("bin/read", "#!/bin/sh\necho \"reading $LANTERN_RUN\"\n")
	p.writes("workflows/w.yaml", "workflow: quick\nif_running: alongside\ntasks: {a: {exec: [bin/read]}}\n")
	service := p.serves()
	p.wants(p.does("apply", "."), 0)
	p.wants(p.does("start", "quick", "--follow"), 0)
	var work sync.WaitGroup
	stop := make(chan struct{})
	work.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
				p.does("start", "quick")
			}
		}
	})
	time.Sleep(300 * time.Millisecond)
	before := len(strings.Split(p.does("runs", "--limit", "500", "--state", "succeeded").out, "\n"))
	p.wants(p.does("backup", "safe.tar.zst"), 0, "safe.tar.zst has everything as of", "3 files")
	close(stop)
	work.Wait()
	p.wants(p.does("backup", "safe.tar.zst"), 2, "is there already")
	looked := p.does("doctor")
	p.wants(looked, 0, "runs on it", "lantern.db", "sound", "1, each as it was applied")
	var kilobytes int // with what is written ahead of the database
	if size := regexp.MustCompile(`lantern\.db +sound, (\d+) KB`).FindStringSubmatch(looked.out); size != nil {
		kilobytes, _ = strconv.Atoi(size[1])
	}
	if kilobytes < 100 {
		t.Errorf("the records have %d KB:\n%s", kilobytes, looked.out)
	}
	if info, err := os.Stat(filepath.Join(p.home, "safe.tar.zst")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info.Mode(), err)
	}
	if left, _ := filepath.Glob(filepath.Join(p.home, "lantern-data", "backup-*")); left != nil {
		t.Errorf("left behind: %v", left)
	}
	if err := service.Process.Signal(syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	_ = service.Wait()

	p.wants(p.does("restore", "safe.tar.zst"), 1, "is not empty")
	p.wants(p.does("restore", "nothing.tar.zst", "--data", "again"), 2, "cannot be read")
	whole, err := os.ReadFile(filepath.Join(p.home, "safe.tar.zst"))
	if err != nil {
		t.Fatal(err)
	}
	p.writes("cut.tar.zst", string(whole[:len(whole)*2/3]))
	p.wants(p.does("restore", "cut.tar.zst", "--data", "again"), 1, "cut off or damaged")
	whole[len(whole)/2] ^= 1
	p.writes("bent.tar.zst", string(whole))
	p.wants(p.does("restore", "bent.tar.zst", "--data", "again"), 1)
	p.writes("text.tar.zst", "no backup")
	p.wants(p.does("restore", "text.tar.zst", "--data", "again"), 1)
	if _, err := os.Stat(filepath.Join(p.home, "again")); !os.IsNotExist(err) {
		t.Errorf("a bad backup left a folder: %v", err)
	}
	p.wants(p.does("restore", "safe.tar.zst", "--data", "again"), 0, "again has everything as of", "lantern serve --data again")
	p.wants(p.does("doctor", "--data", "again"), 0, "none runs on it")
	p.serves("--data", "again")
	token := []string{"--token-file", "again/token"}
	if after := len(strings.Split(p.does(append([]string{"runs", "--limit", "500", "--state", "succeeded"}, token...)...).out, "\n")); after < before {
		t.Errorf("%d lines of runs before the backup, %d after", before, after)
	}
	p.wants(p.does(append([]string{"logs", "quick:1", "a"}, token...)...), 0, "reading quick:1")
	p.wants(p.does(append([]string{"start", "quick", "--follow"}, token...)...), 0)
}

func TestTheDoctorSaysWhatIsWrong(t *testing.T) {
	p := newPerson(t)
	p.wants(p.does("doctor"), 1, "there is no folder lantern-data", "name the data folder")
	service := p.serves()
	p.writes("w.yaml", "workflow: quick\ntasks: {a: {shell: 'true'}}\n")
	p.wants(p.does("apply", "w.yaml"), 0)
	p.wants(p.does("start", "quick", "--follow"), 0)
	p.wants(p.does("doctor", "-o", "json"), 0, `"state": "well"`)
	_ = service.Process.Signal(syscall.SIGTERM)
	_ = service.Wait()
	if err := os.Chmod(filepath.Join(p.home, "lantern-data", "token"), 0o644); err != nil {
		t.Fatal(err)
	}
	p.writes("lantern-data/parcels/"+strings.Repeat("ab", 32)+".tar.gz", "bent")
	records := filepath.Join(p.home, "lantern-data", "lantern.db")
	text, err := os.ReadFile(records)
	if err != nil {
		t.Fatal(err)
	}
	for i := 4096 * 3; i < len(text); i += 7 {
		text[i] ^= 0x55
	}
	if err := os.WriteFile(records, text, 0o600); err != nil {
		t.Fatal(err)
	}
	p.wants(p.does("doctor"), 1, "others can read it", "chmod 600", "these are not what they were", "apply their projects again", "✕")
}

// Logs that are older than they are to be are removed, and their space is given back;
// those of runs that go on are kept.
func TestOldLogsAreRemoved(t *testing.T) {
	p := newPerson(t)
	p.wants(p.does("serve", "--keep-logs", "soon"), 2, "--keep-logs soon: write a length of time, as in 90d")
	p.wants(p.does("serve", "--most-runs", "3"), 2, "--newest-runs 7", "the second not above the first")
	p.serves("--keep-logs", "2s", "--newest-runs", "0")
	p.writes("w.yaml", "workflow: loud\nif_running: alongside\ntasks: {a: {shell: 'head -c 3000000 /dev/urandom | od -x'}}\n---\nworkflow: long\ntasks: {a: {shell: 'echo begun; sleep 60'}}\n")
	p.wants(p.does("apply", "w.yaml"), 0)
	p.wants(p.does("start", "long"), 0)
	p.wants(p.does("start", "loud", "--follow"), 0)
	large := func() (bytes int64) {
		for _, name := range []string{"logs.db", "logs.db-wal"} {
			if info, err := os.Stat(filepath.Join(p.home, "lantern-data", name)); err == nil {
				bytes += info.Size()
			}
		}
		return bytes
	}
	before := large()
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline) && !strings.Contains(p.does("logs", "loud:1", "a").err, "removed"); {
		time.Sleep(100 * time.Millisecond)
	}
	p.wants(p.does("logs", "loud:1", "a"), 0, "the log was removed: logs are kept for 2s after their run has ended")
	p.wants(p.does("show", "loud:1"), 0, "succeeded")
	p.wants(p.does("logs", "long:1", "a"), 0, "begun")
	// What is given back is used again: four times as much stays about as large.
	for range 3 {
		p.wants(p.does("start", "loud", "--follow"), 0)
		for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline) && !strings.Contains(p.does("logs", "loud", "a", "--last", "1").err+p.does("logs", "loud", "a").err, "removed"); {
			time.Sleep(200 * time.Millisecond)
		}
	}
	if after := large(); after > 3*before {
		t.Errorf("the logs had %d bytes, and have %d", before, after)
	}
}

// The attempts of runs that need not be kept are removed, but for the newest of each
// workflow; how runs and tasks ended stays, and their windows are not made again.
func TestOldRunsAreForgotten(t *testing.T) {
	p := newPerson(t)
	p.serves("--keep-runs", "2s", "--newest-runs", "2", "--end-tasks")
	p.writes("w.yaml", "workflow: gauges\nif_running: alongside\nstarts: [{every: 1h}]\ntasks: {a: {shell: 'echo \"{\\\"level\\\": 2}\" > $LANTERN_RESULT'}}\n")
	p.wants(p.does("apply", "w.yaml"), 0)
	p.wants(p.does("backfill", "gauges", "--from", "2026-03-28T00:00:00Z", "--to", "2026-03-28T05:00:00Z", "--follow"), 0, "5 of 5")
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		if s := p.does("show", "gauges:3"); strings.Contains(s.out, "no longer kept") {
			break
		} else if time.Now().After(deadline) {
			t.Fatalf("it is still there:\n%s", s.out)
		}
	}
	for n, kept := range []bool{false, false, false, true, true} {
		run := p.run(fmt.Sprintf("gauges:%d", n+1))
		if (run.Forgotten == nil) != kept || run.State != "succeeded" || len(run.Tasks) != 1 || run.Tasks[0].State != "succeeded" || kept != (len(run.Tasks[0].Attempts) == 1) {
			t.Errorf("%s: forgotten %v, %d tasks, %s", run.ID, run.Forgotten, len(run.Tasks), run.State)
		}
	}
	p.wants(p.does("rerun", "gauges:1", "--from", "a"), 2, "the attempts of run gauges:1 are no longer kept")
	p.wants(p.does("runs", "gauges"), 0, "gauges:1", "gauges:5")
	p.wants(p.does("backfill", "gauges", "--from", "2026-03-28T00:00:00Z", "--to", "2026-03-28T05:00:00Z", "--dry-run"), 0, "0 runs")
	p.wants(p.does("doctor"), 0)
}

// What was recorded a moment ago is in the copies, when the machine is gone.
func TestCopiesAreASecondBehind(t *testing.T) {
	p := newPerson(t)
	p.wants(p.does("serve", "--listen", "127.0.0.1:0", "--copies", "lantern-data/copies"), 1, "within the data folder")
	service := p.serves("--copies", "copies")
	p.writes("rivers/lantern.yaml", "project: rivers\n")
	p.writes("rivers/workflows/w.yaml", "workflow: quick\nif_running: alongside\ntasks: {a: {exec: [bin/read]}}\n")
	p.writes("rivers/bin/read", "#!/bin/sh\necho reading $LANTERN_RUN\n")
	p.wants(p.does("apply", "rivers"), 0)
	const many = 40
	for range many {
		p.wants(p.does("start", "quick"), 0)
	}
	p.wants(p.does("watch", "quick"), 0)
	time.Sleep(3 * time.Second)
	_ = service.Process.Kill()
	_ = service.Wait()
	p.endWorkers()
	if err := os.RemoveAll(filepath.Join(p.home, "lantern-data")); err != nil {
		t.Fatal(err)
	}
	p.wants(p.does("restore", "copies", "--data", "lantern-data"), 0, "has everything as of")
	p.wants(p.does("restore", "copies", "--data", "lantern-data"), 1, "is not empty")
	p.wants(p.does("doctor"), 0)
	p.serves("--end-tasks")
	p.wants(p.does("logs", fmt.Sprintf("quick:%d", many), "a"), 0, fmt.Sprintf("reading quick:%d", many))
	p.wants(p.does("start", "quick", "--follow"), 0, "● succeeded")
	p.wants(p.does("show", "quick"), 0, fmt.Sprintf("quick:%d", many+1))
}

package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// busy has a resource, items and a workflow that it starts; each process notes
// when it begins and ends.
func busy(notes string) string {
	note := func(what string) string {
		return fmt.Sprintf(`echo "%s $LANTERN_RUN $LANTERN_TASK $LANTERN_ATTEMPT" >> %s`, what, notes)
	}
	step := fmt.Sprintf("'%s; sleep 0.15; %s'", note("begin"), note("end"))
	return fmt.Sprintf(`workflow: busy
if_running: alongside
starts: [{every: 1h}]
resources:
  desk: {open: {shell: %[1]s}, close: {shell: %[1]s}}
tasks:
  page: {for_each: [a, b, c, d], at_once: 2, within: desk, shell: %[1]s}
  bind: {after: page, within: desk, shell: %[1]s}
  sub: {after: page, start: inner}
---
workflow: inner
if_running: alongside
tasks: {one: {shell: %[1]s}, two: {after: one, shell: %[1]s}}
`, step)
}

// Killed again and again in the middle of a backfill whose runs have resources,
// items and workflows of their own: every window gets its run, each resource is
// closed, no run is started twice, and no process runs twice beside itself.
func TestKillingTheServiceLosesNoItemResourceOrWindow(t *testing.T) {
	p := newPerson(t)
	notes := filepath.Join(p.home, "notes")
	p.writes("busy.yaml", busy(notes))
	service := p.serves("--slots", "6")
	p.wants(p.does("apply", "busy.yaml"), 0)
	p.wants(p.does("backfill", "busy", "--from", "2026-03-28T00:00:00Z", "--to", "2026-03-28T06:00:00Z", "--at-once", "3"), 0, "backfill 1 makes 6 runs")
	const kills = 6
	for i := range kills {
		time.Sleep(time.Duration(160+i*83) * time.Millisecond)
		if err := service.Process.Kill(); err != nil {
			t.Fatal(err)
		}
		_ = service.Wait()
		if i%2 == 0 {
			p.endWorkers()
		}
		service = p.serves("--slots", "6")
	}
	p.wants(p.does("backfills", "1", "--follow"), 0, "6 of 6", "● succeeded")

	text, err := os.ReadFile(notes)
	if err != nil {
		t.Fatal(err)
	}
	noted := map[string]int{}
	for line := range strings.Lines(string(text)) {
		noted[strings.TrimSpace(line)]++
	}
	for name, n := range noted {
		if n > 1 {
			t.Errorf("%q was noted %d times", name, n)
		}
	}
	lost, inner := 0, map[string]bool{}
	windows := map[string]bool{}
	for n := 1; n <= 6; n++ {
		run := p.run(fmt.Sprintf("busy:%d", n))
		windows[run.Window.Start.Format("15")] = true
		if run.State != "succeeded" || len(run.Tasks) != 9 {
			t.Errorf("%s is %s, with %d tasks", run.ID, run.State, len(run.Tasks))
		}
		for _, task := range run.Tasks {
			if task.State != "succeeded" {
				t.Errorf("%s of %s is %s", task.Name, run.ID, task.State)
			}
			for i, a := range task.Attempts {
				if a.State == "lost" {
					lost++
				}
				if last := i == len(task.Attempts)-1; last && a.Run == "" && noted[fmt.Sprintf("end %s %s %d", run.ID, task.Name, a.Number)] != 1 {
					t.Errorf("attempt %d of %s of %s is %s, and its process did not note its end", a.Number, task.Name, run.ID, a.State)
				}
				if a.Run != "" {
					if inner[a.Run] || p.run(a.Run).Outer != run.ID {
						t.Errorf("%s belongs to %s, and to %s", a.Run, run.ID, p.run(a.Run).Outer)
					}
					inner[a.Run] = true
				}
			}
		}
	}
	if len(windows) != 6 || len(inner) != 6 {
		t.Errorf("%d windows and %d inner runs, not 6", len(windows), len(inner))
	}
	p.wants(p.does("show", "inner:7"), 2, "there are runs inner:1 to inner:6")
	if lost == 0 {
		t.Error("no attempt was cut off: the kills came at the wrong moments")
	}
	t.Logf("%d kills, %d attempts lost and made again", kills, lost)
}

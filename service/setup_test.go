package service_test

import (
	"strings"
	"testing"

	"wiselantern/internal/testkit"
)

const setup = `project: rivers
setup:
  shell: |
    echo once >> count
    echo "the gauges are set up" && mkdir -p gauges && echo G01 > gauges/list
  env: {WHAT: gauges}
`

// A setup is done once for all tasks of a parcel, what it makes is where they
// look, and what it prints is in the log of the task that it was done for.
func TestASetupIsDoneOnce(t *testing.T) {
	s := testkit.Start(t)
	s.ApplyProject(t, `
workflow: w
tasks:
  read:
    for_each: [1, 2, 3, 4, 5, 6]
    shell: |
      cat gauges/list bin/own
      wc -l < "$LANTERN_SETUP/count"
      test ! -w gauges/none
`, map[string]string{"lantern.yaml": setup, "bin/own": "own\n"})
	run := s.End(t, s.Begin(t, "w").ID)
	if run.State != "succeeded" {
		t.Fatalf("%+v", run)
	}
	found := 0
	for _, task := range run.Tasks[1:] {
		log := s.Log(t, run.ID, task.Name, 1)
		if !strings.HasSuffix(log, "out G01\nout own\nout 1\n") {
			t.Errorf("%s printed %q", task.Name, log)
		}
		if strings.Contains(log, "the gauges are set up") {
			found++
		}
	}
	if found != 1 {
		t.Errorf("what the setup printed is in %d logs", found)
	}
	again := s.End(t, s.Begin(t, "w").ID)
	if log := s.Log(t, again.ID, "read[0]", 1); log != "out G01\nout own\nout 1\n" {
		t.Errorf("in the next run: %q", log)
	}
}

func TestASetupThatFailsFailsTheAttempt(t *testing.T) {
	s := testkit.Start(t)
	s.ApplyProject(t, `
workflow: w
tasks: {a: {retry: {times: 1, pause: 1s}, outcomes: {7: skipped}, shell: 'true'}}
`, map[string]string{"lantern.yaml": "project: rivers\nsetup: {shell: 'echo no such gauge >&2; exit 7'}\n"})
	run := s.End(t, s.Begin(t, "w").ID)
	task := testkit.Task(t, run, "a")
	if task.State != "failed" || len(task.Attempts) != 2 || task.Error != "setup of the project: exit code 7: no such gauge" {
		t.Errorf("%+v", task)
	}
	if log := s.Log(t, run.ID, "a", 2); !strings.Contains(log, "setup of the project, before its first task") || !strings.Contains(log, "no such gauge") {
		t.Errorf("its log is %q", log)
	}
}

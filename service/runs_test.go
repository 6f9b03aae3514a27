package service_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wiselantern/client"
	"wiselantern/core/definition"
	"wiselantern/internal/testkit"
)

func TestRunsOfOneWorkflowWaitTheirTurn(t *testing.T) {
	s := testkit.Start(t)
	for _, policy := range []string{"queue", "alongside"} {
		s.Apply(t, "workflow: "+policy+"\nif_running: "+policy+"\ntasks: {a: {shell: 'sleep 0.2'}}")
		for range 3 {
			s.Begin(t, policy)
		}
		for n := range 3 {
			s.End(t, fmt.Sprintf("%s:%d", policy, n+1))
		}
		page, err := s.Runs(testkit.Context(t), client.RunsFilter{Workflow: policy})
		if err != nil {
			t.Fatal(err)
		}
		overlaps := 0
		for i := range 2 { // newest first
			if page.Runs[i].Started.Before(*page.Runs[i+1].Ended) {
				overlaps++
			}
		}
		if overlaps != map[string]int{"queue": 0, "alongside": 2}[policy] {
			t.Errorf("if_running: %s, and %d runs began before the one before had ended", policy, overlaps)
		}
	}
}

func TestOnlySoManyRunsGoAtOnce(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, "workflow: w\nif_running: alongside\nat_most: 2\ntasks: {a: {shell: 'sleep 0.2'}}")
	for range 5 {
		s.Begin(t, "w")
	}
	most := 0
	for {
		page, err := s.Runs(testkit.Context(t), client.RunsFilter{Workflow: "w"})
		if err != nil {
			t.Fatal(err)
		}
		states := map[string]int{}
		for _, r := range page.Runs {
			states[r.State]++
		}
		if most = max(most, states["running"]); states["succeeded"] == 5 {
			break
		}
	}
	if most != 2 {
		t.Errorf("%d runs went at once", most)
	}
}

func TestANewerRunTakesThePlaceOfTheOlder(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, "workflow: w\nif_running: replace\nparams: {sleep: {type: number, default: 60}}\ntasks: {a: {shell: 'sleep $LANTERN_PARAM_SLEEP'}}")
	s.Begin(t, "w")
	s.Until(t, "w:1", func(r client.Run) bool { return r.Counts["running"] == 1 })
	s.Begin(t, "w")
	last := s.Begin(t, "w", "sleep=0")
	ended := s.End(t, last.ID)
	first, second := s.End(t, "w:1"), s.End(t, "w:2")
	if ended.State != "succeeded" || first.State != "stopped" || second.State != "stopped" || !ended.Started.After(*first.Ended) && !ended.Started.Equal(*first.Ended) {
		t.Errorf("%s, %s and %s", first.State, second.State, ended.State)
	}
	if reason := testkit.Task(t, first, "a").Reason; reason != "stopped by the newer run w:2" {
		t.Errorf("the reason is %q", reason)
	}
}

func TestCapacityIsSharedAndNeverExceeded(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	notes := filepath.Join(t.TempDir(), "notes")
	s := testkit.StartIn(t, dir)
	ctx := testkit.Context(t)
	text := "workflow: %s\npriority: %d\nif_running: alongside\ntasks:\n  a: {takes: {warehouse: 2}, shell: 'echo begin $LANTERN_RUN >> %[3]s; sleep 0.15; echo end $LANTERN_RUN >> %[3]s'}\n"
	s.Apply(t, fmt.Sprintf(text, "low", 0, notes))
	s.Apply(t, fmt.Sprintf(text, "high", 5, notes))
	first := s.Begin(t, "low")
	waits := func(id string) string {
		run, err := s.Run(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		return run.Tasks[0].Waits
	}
	if got := waits(first.ID); !strings.Contains(got, "capacity warehouse, which nobody has set; say lantern capacity set warehouse UNITS") {
		t.Errorf("%q", got)
	}
	if _, err := s.SetCapacity(ctx, "warehouse", 1); err != nil {
		t.Fatal(err)
	}
	if got := waits(first.ID); got != "waits for 2 of capacity warehouse, which has only 1" {
		t.Errorf("%q", got)
	}
	for range 3 {
		s.Begin(t, "low")
	}
	s.Begin(t, "high")
	s.Stop(t) // who waits is known in the next life too
	s = testkit.StartIn(t, dir)
	if _, err := s.SetCapacity(ctx, "warehouse", 5); err != nil {
		t.Fatal(err)
	}
	for _, id := range []string{"low:1", "low:2", "low:3", "low:4", "high:1"} {
		if run := s.End(t, id); run.State != "succeeded" {
			t.Errorf("%+v", run)
		}
	}
	out, most := 0, 0
	var order []string
	for line := range strings.Lines(read(t, notes)) {
		if id, ok := strings.CutPrefix(strings.TrimSpace(line), "begin "); ok {
			out++
			order = append(order, id)
		} else {
			out--
		}
		most = max(most, out)
	}
	// Two that are sent in the same moment may begin in either order.
	firsts := strings.Join(slices.Sorted(slices.Values(order[:2])), " ")
	if most != 2 || firsts != "high:1 low:1" || order[4] != "low:4" {
		t.Errorf("at most %d were out at once, in the order %v", most, order)
	}
	all, err := s.Capacities(ctx)
	if err != nil || len(all) != 1 || all[0] != (client.Capacity{Name: "warehouse", Units: 5, Set: true}) {
		t.Errorf("%+v %v", all, err)
	}
	if _, err := s.SetCapacity(ctx, "Ware House", 5); err == nil || !strings.Contains(err.Error(), "cannot be the name of a capacity") {
		t.Errorf("%v", err)
	}
	// What is stopped while it waits takes nothing.
	if _, err := s.SetCapacity(ctx, "warehouse", 0); err != nil {
		t.Fatal(err)
	}
	waiting := s.Begin(t, "low")
	if _, err := s.Client.Stop(ctx, waiting.ID, ""); err != nil {
		t.Fatal(err)
	}
	if all, err := s.Capacities(ctx); err != nil || all[0].Waiting != 0 || all[0].InUse != 0 {
		t.Errorf("%+v %v", all, err)
	}
}

func TestATimeRuleMakesARunForEachWindow(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, "workflow: tick\nstarts: [{every: 1s, zone: Europe/Oslo}]\ntasks: {a: {shell: 'echo $LANTERN_WINDOW_START $LANTERN_WINDOW_END'}}")
	for made := 0; made < 3; time.Sleep(20 * time.Millisecond) {
		page, err := s.Runs(testkit.Context(t), client.RunsFilter{Workflow: "tick"})
		if err != nil {
			t.Fatal(err)
		}
		made = len(page.Runs)
	}
	third := s.End(t, "tick:3")
	if _, err := s.Pause(testkit.Context(t), "tick"); err != nil {
		t.Fatal(err)
	}
	paused, err := s.Run(testkit.Context(t), "tick")
	if err != nil {
		t.Fatal(err)
	}
	time.Sleep(2200 * time.Millisecond)
	if now, err := s.Run(testkit.Context(t), "tick"); err != nil || now.Number > paused.Number {
		t.Errorf("while it is paused run %d was made (%v)", now.Number, err)
	}
	resumed, err := s.Resume(testkit.Context(t), "tick")
	if err != nil || resumed.Missed < 2 {
		t.Errorf("resumed with %+v, %v", resumed, err)
	}
	s.Until(t, "tick", func(r client.Run) bool { return r.Number >= paused.Number+resumed.Missed+1 })
	if _, err := s.Pause(testkit.Context(t), "tick"); err != nil {
		t.Fatal(err)
	}
	page, err := s.Runs(testkit.Context(t), client.RunsFilter{Workflow: "tick"})
	if err != nil {
		t.Fatal(err)
	}
	for i, r := range page.Runs {
		if r.Cause != "schedule" || r.CausedBy != "every 1s, Europe/Oslo" || r.Window.End.Sub(r.Window.Start) != time.Second || !r.Due.Equal(r.Window.End) {
			t.Errorf("%+v", r)
		}
		if i > 0 && !r.Window.End.Equal(page.Runs[i-1].Window.Start) {
			t.Errorf("between the windows of %s and %s is a gap", r.ID, page.Runs[i-1].ID)
		}
	}
	want := third.Window.Start.Format(time.RFC3339)
	if log := s.Log(t, third.ID, "a", 1); !strings.Contains(log, want) {
		t.Errorf("the task was told %q, want %s", log, want)
	}
}

func TestApplyMakesAVersionOnlyWhenSomethingChanged(t *testing.T) {
	s := testkit.Start(t)
	ctx := testkit.Context(t)
	apply := func(text string, dry bool) string {
		applied, err := s.Client.Apply(ctx, client.ApplyRequest{Files: []definition.File{{Path: "w.yaml", Text: text}}, DryRun: dry})
		if err != nil {
			t.Fatal(err)
		}
		w := applied.Workflows[0]
		return fmt.Sprintf("%s %d", w.Change, w.Version)
	}
	one, two := "workflow: w\ntasks: {a: {shell: echo one}}", "workflow: w\ntasks: {a: {shell: echo two}}"
	for i, step := range []struct {
		text string
		dry  bool
		want string
	}{{one, true, "new 1"}, {one, false, "new 1"}, {one, false, "same 1"}, {two, true, "changed 2"}, {two, false, "changed 2"}, {"# a word\n" + two, false, "same 2"}} {
		if got := apply(step.text, step.dry); got != step.want {
			t.Errorf("step %d: %s, want %s", i+1, got, step.want)
		}
	}
}

func TestGoingBackToAVersion(t *testing.T) {
	s := testkit.Start(t)
	ctx := testkit.Context(t)
	for _, word := range []string{"one", "two"} {
		s.ApplyProject(t, "workflow: w\ntasks: {a: {shell: 'cat word; echo "+word+"'}}", map[string]string{"word": "code of " + word + "\n"})
	}
	change, err := s.UseVersion(ctx, "w", 1)
	if err != nil || change.Change != "changed" || change.Version != 3 {
		t.Fatalf("%+v %v", change, err)
	}
	if log := s.Log(t, s.End(t, s.Begin(t, "w").ID).ID, "a", 1); log != "out code of one\nout one\n" {
		t.Errorf("it does %q", log)
	}
	list, err := s.Versions(ctx, "w")
	if err != nil || len(list) != 3 || !list[0].Current || list[0].Hash != list[2].Hash || list[0].Parcel != list[2].Parcel || list[1].Hash == list[2].Hash {
		t.Errorf("%+v %v", list, err)
	}
	if same, err := s.UseVersion(ctx, "w", 3); err != nil || same.Change != "same" {
		t.Errorf("%+v %v", same, err)
	}
	if _, err := s.UseVersion(ctx, "w", 9); err == nil || !strings.Contains(err.Error(), "versions 1 to 3 of w") {
		t.Errorf("%v", err)
	}
}

func TestARunKeepsItsVersion(t *testing.T) {
	s := testkit.Start(t)
	gate := filepath.Join(t.TempDir(), "gate")
	text := "workflow: w\ntasks: {a: {shell: 'until test -e %s; do sleep 0.02; done'}, b: {after: a, shell: 'echo %s; cat word'}}"
	s.ApplyProject(t, fmt.Sprintf(text, gate, "first"), map[string]string{"word": "code of the first\n"})
	run := s.Begin(t, "w")
	s.Until(t, run.ID, func(r client.Run) bool { return r.Counts["running"] == 1 })
	s.ApplyProject(t, fmt.Sprintf(text, gate, "second"), map[string]string{"word": "code of the second\n"})
	if err := os.WriteFile(gate, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	s.End(t, run.ID)
	if got := s.Log(t, run.ID, "b", 1); got != "out first\nout code of the first\n" {
		t.Errorf("it went on as %q", got)
	}
	if got := s.Log(t, s.End(t, s.Begin(t, "w").ID).ID, "b", 1); got != "out second\nout code of the second\n" {
		t.Errorf("the next run did %q", got)
	}
}

func TestARunOverItsDeadlineFails(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	s := testkit.StartIn(t, dir)
	s.Apply(t, "workflow: w\ndeadline: 1s\nif_running: alongside\nparams: {sleep: {type: number, default: 60}}\ntasks: {a: {shell: 'sleep $LANTERN_PARAM_SLEEP'}, b: {after: a, shell: 'true'}}")
	s.End(t, s.Begin(t, "w", "sleep=0").ID)
	run := s.End(t, s.Begin(t, "w").ID)
	a := testkit.Task(t, run, "a")
	if took := run.Ended.Sub(*run.Started); run.State != "failed" || a.State != "stopped" || a.Reason != "the run was over its deadline of 1s" || took < time.Second || took > 5*time.Second {
		t.Errorf("after %v: %+v", took, run)
	}
	if inTime, err := s.Run(testkit.Context(t), "w:1"); err != nil || inTime.State != "succeeded" {
		t.Errorf("%+v %v", inTime, err)
	}
	away := s.Begin(t, "w")
	s.Until(t, away.ID, func(r client.Run) bool { return r.Counts["running"] == 1 })
	s.Stop(t)
	s = testkit.StartIn(t, dir)
	if run := s.End(t, away.ID); run.State != "failed" {
		t.Errorf("%+v", run)
	}
}

// A service by hand leaves alone what has come due, on a folder that was in use too.
func TestNothingComesDueByHand(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, "workflow: tick\nstarts: [{every: 1s, zone: Europe/Oslo}]\ntasks: {a: {exec: [\"true\"]}}")
	s.Stop(t)
	s = testkit.StartByHand(t, s.Dir)
	runs := func() int {
		page, err := s.Runs(t.Context(), client.RunsFilter{})
		if err != nil {
			t.Fatal(err)
		}
		return len(page.Runs)
	}
	before := runs()
	time.Sleep(1500 * time.Millisecond) // a window ends meanwhile
	if after := runs(); after != before {
		t.Errorf("there were %d runs, and there are %d", before, after)
	}
}

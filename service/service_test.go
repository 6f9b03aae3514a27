package service_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"wiselantern/client"
	"wiselantern/core/definition"
	"wiselantern/internal/testkit"
)

func TestARunGoesFromFileToLamp(t *testing.T) {
	s := testkit.Start(t)
	s.ApplyProject(t, `
workflow: gauges
params: {basin: {type: choice, of: [upper, lower], default: upper}}
tasks:
  collect: {exec: [bin/collect, "two words", "$HOME *"]}
  split: {after: collect, shell: 'echo "$LANTERN_RUN $LANTERN_TASK $LANTERN_ATTEMPT $LANTERN_PARAM_BASIN $COLOUR"; cat lib/note; echo "to err" >&2', env: {COLOUR: blue}}
  load: {after: [collect, split], shell: 'test -n "$TRACEPARENT"; pwd; ls'}
`, map[string]string{
		"bin/collect": "#!/bin/sh\nfor word; do echo \"[$word]\"; done\necho '{\"rows\": 12}' > \"$LANTERN_RESULT\"\n",
		"lib/note":    "a note\n",
	})
	run := s.End(t, s.Begin(t, "gauges", "basin=lower").ID)
	if run.State != "succeeded" || run.ID != "gauges:1" || run.Cause != "person" || run.CausedBy != "kari" || run.Counts["succeeded"] != 3 {
		t.Fatalf("%+v", run)
	}
	if got := s.Log(t, run.ID, "collect", 1); got != "out [two words]\nout [$HOME *]\n" {
		t.Errorf("words reach the program as they are, but it said:\n%s", got)
	}
	if got := s.Log(t, run.ID, "split", 1); strings.ReplaceAll(got, "err to err\n", "") != "out gauges:1 split 1 lower blue\nout a note\n" || !strings.Contains(got, "err to err\n") {
		t.Errorf("the log of split:\n%s", got)
	}
	if got := s.Log(t, run.ID, "load", 1); !strings.Contains(got, "out bin\nout lib\n") {
		t.Errorf("the work folder does not hold the project:\n%s", got)
	}
	collect := testkit.Task(t, run, "collect")
	if collect.Result["rows"] != 12.0 || collect.Attempts[0].ExitCode == nil || *collect.Attempts[0].ExitCode != 0 {
		t.Errorf("%+v", collect)
	}
	if entries, _ := os.ReadDir(filepath.Join(s.Dir, "worker", "attempts")); len(entries) != 0 {
		t.Errorf("folders of attempts are left behind: %v", entries)
	}
}

// A secret reaches the task, and is shown nowhere else.
func TestASecretIsGivenToTasksAndNeverShown(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, "workflow: w\nparams: {key: {type: text, secret: true, pattern: '[a-z]+', required: true}}\ntasks: {a: {shell: 'test \"$LANTERN_PARAM_KEY\" = swordfish'}}")
	run := s.End(t, s.Begin(t, "w", "key=swordfish").ID)
	if run.State != "succeeded" || run.Params["key"] != "(secret)" {
		t.Errorf("%+v", run)
	}
	page, err := s.Runs(testkit.Context(t), client.RunsFilter{})
	if err != nil || page.Runs[0].Params["key"] != "(secret)" {
		t.Errorf("%+v %v", page, err)
	}
	w, err := s.Workflow(testkit.Context(t), "w")
	if err != nil || strings.Contains(fmt.Sprintf("%+v", w), "swordfish") {
		t.Errorf("%+v %v", w, err)
	}
	_, err = s.Client.Start(testkit.Context(t), "w", client.StartRequest{Texts: map[string]string{"key": "Sword1"}})
	if err == nil || strings.Contains(err.Error(), "Sword1") || !strings.Contains(err.Error(), "it is secret") {
		t.Errorf("%v", err)
	}
	if again, err := s.Rerun(testkit.Context(t), run.ID, client.RerunRequest{Only: []string{"a"}}); err != nil || len(again.Tasks) != 1 {
		t.Errorf("%+v %v", again, err)
	}
	if run := s.EndAgain(t, run.ID, run.Ended); run.State != "succeeded" {
		t.Errorf("made again it is %s", run.State)
	}
}

func TestAFailedAttemptIsTriedAgain(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, `
workflow: late
tasks:
  collect:
    shell: 'echo "try $LANTERN_ATTEMPT"; test "$LANTERN_ATTEMPT" = 3 || { echo "not sent yet" >&2; exit 75; }'
    retry: {times: 3, pause: 20ms, growth: 1}
  load: {after: collect, shell: 'true'}
`)
	run := s.End(t, s.Begin(t, "late").ID)
	collect := testkit.Task(t, run, "collect")
	if run.State != "succeeded" || len(collect.Attempts) != 3 {
		t.Fatalf("%+v", run)
	}
	for i, want := range []string{"failed", "failed", "succeeded"} {
		if got := collect.Attempts[i]; got.State != want || got.Number != i+1 || got.Started == nil || got.Ended == nil {
			t.Errorf("attempt %d: %+v", i+1, got)
		}
		if got := s.Log(t, run.ID, "collect", i+1); !strings.Contains(got, fmt.Sprintf("out try %d\n", i+1)) {
			t.Errorf("the log of attempt %d: %q", i+1, got)
		}
	}
	if collect.Attempts[0].Error != "exit code 75: not sent yet" {
		t.Errorf("the reason is %q", collect.Attempts[0].Error)
	}
}

// What goes wrong with a program is told in words that say what to do.
func TestHowTasksFail(t *testing.T) {
	s := testkit.Start(t)
	big := "head -c 300000 /dev/zero | tr '\\0' x"
	cases := []struct{ task, action, wanted string }{
		{"missing", "exec: [bin/nowhere]", "the program bin/nowhere does not exist; a path is relative to the project's folder"},
		{"not-in-path", "exec: [no-such-program-here]", "the program no-such-program-here is not in PATH"},
		{"without-slash", "exec: [note]", "the project has a file of that name: write ./note"},
		{"no-run-bit", "exec: [./note]", "the program ./note has no run bit; give it one (chmod +x ./note)"},
		{"a-folder", "exec: [./lib]", "./lib is a folder, not a program"},
		{"no-interpreter", "exec: [bin/strange]", "the interpreter in its first line does not exist"},
		{"exit-code", "shell: exit 7", "exit code 7"},
		{"first-failure-ends-it", "shell: 'false; echo went on'", "exit code 1"},
		{"signal", "shell: 'kill -9 $$'", "ended by SIGKILL"},
		{"timeout", "{shell: sleep 30, timeout: 200ms}", "over its timeout of 200ms"},
		{"result-not-json", `shell: 'echo rows > "$LANTERN_RESULT"'`, "its result is not a JSON object"},
		{"result-a-list", `shell: 'echo "[1]" > "$LANTERN_RESULT"'`, "its result is not a JSON object"},
		{"result-too-big", fmt.Sprintf(`shell: '{ printf "{\"a\": \""; %s; printf "\"}"; } > "$LANTERN_RESULT"'`, strings.ReplaceAll(big, "'", "''")), "its result has over 256 KB"},
	}
	text := "workflow: broken\ntasks:\n"
	for _, c := range cases {
		action := c.action
		if !strings.HasPrefix(action, "{") {
			action = "\n    " + action
		}
		text += "  " + c.task + ": " + action + "\n"
	}
	s.ApplyProject(t, text, map[string]string{"note": "a note\n", "lib/x": "x", "bin/strange": "#!/no/such/interpreter\n"})
	run := s.End(t, s.Begin(t, "broken").ID)
	for _, c := range cases {
		task := testkit.Task(t, run, c.task)
		if task.State != "failed" || !strings.Contains(task.Error, c.wanted) {
			t.Errorf("%s is %s: %q, want it to say %q", c.task, task.State, task.Error, c.wanted)
		}
	}
	for task, code := range map[string]int{"missing": 127, "no-run-bit": 126, "not-in-path": 127, "no-interpreter": 127, "exit-code": 7} {
		if got := testkit.Task(t, run, task).Attempts[0].ExitCode; got == nil || *got != code {
			t.Errorf("%s has exit code %v, want %d", task, got, code)
		}
	}
}

func TestWhatATaskLeftRunningIsEnded(t *testing.T) {
	s := testkit.Start(t)
	marker := filepath.Join(t.TempDir(), "alive")
	s.Apply(t, fmt.Sprintf(`
workflow: stray
tasks:
  leave: {shell: '(while :; do date > %s; sleep 0.05; done) & echo left one'}
`, marker))
	run := s.End(t, s.Begin(t, "stray").ID)
	if run.State != "succeeded" {
		t.Fatalf("%+v", run)
	}
	time.Sleep(100 * time.Millisecond)
	os.Remove(marker)
	time.Sleep(200 * time.Millisecond)
	if _, err := os.Stat(marker); err == nil {
		t.Error("a process of the task is still writing")
	}
}

func TestStoppingARunEndsItsProcesses(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, `
workflow: slow
tasks:
  wait: {shell: 'trap "echo told to end; exit 3" TERM; echo waiting; sleep 60 & wait'}
  beside: {shell: sleep 60}
  after: {after: wait, shell: 'true'}
`)
	run := s.Begin(t, "slow")
	s.Until(t, run.ID, func(r client.Run) bool { return r.Counts["running"] == 2 })
	for s.Log(t, run.ID, "wait", 1) == "" {
		time.Sleep(10 * time.Millisecond)
	}
	if _, err := s.Client.Stop(testkit.Context(t), run.ID, "beside"); err != nil {
		t.Fatal(err)
	}
	s.Until(t, run.ID, func(r client.Run) bool { return testkit.Task(t, r, "beside").State == "stopped" })
	if _, err := s.Client.Stop(testkit.Context(t), run.ID, ""); err != nil {
		t.Fatal(err)
	}
	ended := s.End(t, run.ID)
	if ended.State != "stopped" || ended.Counts["stopped"] != 3 {
		t.Fatalf("%+v", ended)
	}
	wait := testkit.Task(t, ended, "wait")
	if wait.Reason != "stopped by kari" || wait.Attempts[0].State != "stopped" {
		t.Errorf("%+v", wait)
	}
	if log := s.Log(t, run.ID, "wait", 1); !strings.Contains(log, "told to end") {
		t.Errorf("it was not given the time to end:\n%s", log)
	}
	_, err := s.Client.Stop(testkit.Context(t), run.ID, "")
	if err == nil || !strings.Contains(err.Error(), "run slow:1 has ended already") {
		t.Errorf("stopping it again: %v", err)
	}
}

// Any bytes come back as they went in: both streams, lines longer than a line
// may be, no line feed at the end.
func TestOutputSurvivesByteForByte(t *testing.T) {
	s := testkit.Start(t)
	want := filepath.Join(t.TempDir(), "bytes")
	var content bytes.Buffer
	for i := range 256 {
		content.WriteByte(byte(i))
	}
	content.WriteString("\n\n" + strings.Repeat("long", 50_000) + "\n" + strings.Repeat("x", 64<<10) + "\n" + strings.Repeat("y", 128<<10) + "\nno end\n")
	if err := os.WriteFile(want, content.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	s.Apply(t, fmt.Sprintf("workflow: bytes\ntasks:\n  print: {exec: [cat, %s]}\n  open-end: {shell: 'printf \"no line feed\"; printf \"nor here\" >&2'}\n", want))
	run := s.End(t, s.Begin(t, "bytes").ID)
	body, err := s.RawLog(testkit.Context(t), run.ID, "print", 1)
	if err != nil {
		t.Fatal(err)
	}
	defer body.Close()
	got, err := io.ReadAll(body)
	if err != nil || !bytes.Equal(got, content.Bytes()) {
		t.Errorf("%d bytes went in and %d came out (%v)", content.Len(), len(got), err)
	}
	page, err := s.Lines(testkit.Context(t), run.ID, "print", 1, 0)
	if err != nil {
		t.Fatal(err)
	}
	first := page.Lines[1] // behind the line feed among the bytes
	if first.Bytes == nil || !strings.Contains(first.Text, "\uFFFD") {
		t.Errorf("a line that is no UTF-8 comes as %+v", first)
	}
	if log := s.Log(t, run.ID, "open-end", 1); !strings.Contains(log, "out no line feed\n") || !strings.Contains(log, "err nor here\n") {
		t.Errorf("%q", log)
	}
}

// A task that prints without end neither fills memory nor stalls others.
func TestALoudTaskIsHeldBackAlone(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, `
workflow: loud
if_running: alongside
tasks:
  print: {shell: 'yes "the gauge at Hallowick reports 1.32 m and rising" | head -c 300000000'}
`)
	s.Apply(t, "workflow: quiet\nif_running: alongside\ntasks: {a: {shell: 'echo hi'}}")
	loud := s.Begin(t, "loud")
	var most uint64
	var slowest time.Duration
	for {
		began := time.Now()
		quiet := s.End(t, s.Begin(t, "quiet").ID)
		slowest = max(slowest, time.Since(began))
		if quiet.State != "succeeded" {
			t.Fatalf("%+v", quiet)
		}
		var memory runtime.MemStats
		runtime.ReadMemStats(&memory)
		most = max(most, memory.HeapInuse)
		run, err := s.Run(testkit.Context(t), loud.ID)
		if err != nil {
			t.Fatal(err)
		}
		if run.Ended != nil {
			if run.State != "succeeded" {
				t.Fatalf("%+v", run)
			}
			break
		}
	}
	body, err := s.RawLog(testkit.Context(t), loud.ID, "print", 1)
	if err != nil {
		t.Fatal(err)
	}
	defer body.Close()
	if n, err := io.Copy(io.Discard, body); n != 300_000_000 && n != 300_000_001 || err != nil {
		t.Errorf("%d bytes came back (%v)", n, err)
	}
	if most > 120<<20 {
		t.Errorf("the heap grew to %d MB", most>>20)
	}
	t.Logf("heap at most %d MB; the slowest quiet run beside it took %v", most>>20, slowest)
}

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

// Capacity is shared by all runs, never exceeded, and given by priority and age;
// what a task waits for is told.
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
	if most != 2 || order[0] != "high:1" && order[1] != "high:1" || order[4] != "low:4" {
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

// A run stays on the version that it began with.
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

// A task cannot change the code that other attempts share.
func TestFilesOfTheProjectAreReadOnly(t *testing.T) {
	s := testkit.Start(t)
	s.ApplyProject(t, `
workflow: w
tasks:
  look: {shell: 'stat -c %A word; mv word old; echo new > word; cat word'}
  again: {after: look, shell: cat word}
`, map[string]string{"word": "as applied\n"})
	run := s.End(t, s.Begin(t, "w").ID)
	if got := s.Log(t, run.ID, "look", 1); got != "out -r--r--r--\nout new\n" {
		t.Errorf("%q", got)
	}
	if got := s.Log(t, run.ID, "again", 1); got != "out as applied\n" {
		t.Errorf("the next attempt found %q", got)
	}
}

// A restart in the middle: what ran is made again, what had ended is not.
func TestARestartGoesOnWhereItWas(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	notes := filepath.Join(t.TempDir(), "notes")
	s := testkit.StartIn(t, dir)
	s.Apply(t, fmt.Sprintf(`
workflow: w
tasks:
  first: {shell: 'echo first >> %[1]s'}
  second: {after: first, shell: 'echo second >> %[1]s; test "$LANTERN_ATTEMPT" = 2 || sleep 60'}
  third: {after: second, shell: 'echo third >> %[1]s'}
`, notes))
	run := s.Begin(t, "w")
	s.Until(t, run.ID, func(r client.Run) bool { return testkit.Task(t, r, "second").State == "running" })
	for !strings.Contains(read(t, notes), "second") {
		time.Sleep(10 * time.Millisecond)
	}
	began := time.Now()
	s.Stop(t)
	if took := time.Since(began); took > 10*time.Second {
		t.Errorf("stopping took %v", took)
	}
	s = testkit.StartIn(t, dir)
	ended := s.End(t, run.ID)
	if ended.State != "succeeded" || read(t, notes) != "first\nsecond\nsecond\nthird\n" {
		t.Fatalf("%+v\n%s", ended, read(t, notes))
	}
	second := testkit.Task(t, ended, "second")
	if len(second.Attempts) != 2 || second.Attempts[0].State != "lost" || second.Attempts[1].State != "succeeded" {
		t.Errorf("%+v", second.Attempts)
	}
}

func read(t *testing.T, name string) string {
	t.Helper()
	text, err := os.ReadFile(name)
	if err != nil && !os.IsNotExist(err) {
		t.Fatal(err)
	}
	return string(text)
}

// A remedy, a path for whatever happened, codes with a meaning, and a person's
// word, all in one run.
func TestPathsForWhateverHappens(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, `
workflow: paths
tasks:
  check/range: {shell: exit 3, outcomes: {3: skipped}}
  check/stuck: {shell: 'true'}
  load: {after: {check/*: clear}, shell: exit 64, outcomes: {64..74: failed}, retry: {times: 5, pause: 10ms}, may_fail: true}
  mend: {after: {load: failed}, shell: echo mended}
  never: {after: {check/stuck: failed}, shell: echo never}
  tidy: {after: {load: settled, mend: settled}, shell: echo tidy}
  publish: {after: load, otherwise: hold, shell: echo published}
  tell: {after: [publish, tidy], join: any, shell: echo told}
`)
	run := s.Begin(t, "paths")
	held := s.Until(t, run.ID, func(r client.Run) bool {
		return r.Counts["held"] == 1 && testkit.Task(t, r, "tidy").State == "succeeded"
	})
	if !held.Attention || testkit.Task(t, held, "publish").Reason != "it comes after load, which failed" {
		t.Errorf("%+v", held)
	}
	_, err := s.Release(testkit.Context(t), run.ID, "tidy", "run")
	if err == nil || !strings.Contains(err.Error(), "is not held, but succeeded; held are publish") {
		t.Errorf("releasing another: %v", err)
	}
	if _, err := s.Release(testkit.Context(t), run.ID, "publish", "run"); err != nil {
		t.Fatal(err)
	}
	ended := s.End(t, run.ID)
	want := map[string]string{"check/range": "skipped", "check/stuck": "succeeded", "load": "failed", "mend": "succeeded", "never": "skipped", "tidy": "succeeded", "publish": "succeeded", "tell": "succeeded"}
	for name, state := range want {
		if got := testkit.Task(t, ended, name); got.State != state {
			t.Errorf("%s is %s (%s), want %s", name, got.State, got.Reason, state)
		}
	}
	if load := testkit.Task(t, ended, "load"); len(load.Attempts) != 1 {
		t.Errorf("a code that means failed was tried %d times", len(load.Attempts))
	}
	if skipped := testkit.Task(t, ended, "check/range").Attempts[0]; skipped.State != "skipped" {
		t.Errorf("%+v", skipped)
	}
	if ended.State != "succeeded" || ended.Attention {
		t.Errorf("the run is %s", ended.State)
	}
}

// Conditions, routes and values from params, the window and results, also across
// a restart in between.
func TestExpressionsSeeWhatIsKnown(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	gate := filepath.Join(t.TempDir(), "gate")
	s := testkit.StartIn(t, dir)
	s.Apply(t, fmt.Sprintf(`
workflow: w
params: {threshold: {type: number, default: 2.4}, stations: {type: list, default: [G01, "G 02"]}}
tasks:
  index: {shell: 'echo "{\"index\": 3.5, \"where\": \"G03; rm -rf\", \"paths\": [\"a b\", \"c\"]}" > "$LANTERN_RESULT"'}
  hold-on: {after: index, shell: 'until test -e %s; do sleep 0.02; done'}
  words:
    after: hold-on
    exec: [printf, "[%%s]", "${params.stations}", "at ${task('index').result.where}", "${task('index').result.paths}", "$${HOME}"]
    env: {RUN: "${run.id} ${params.threshold}"}
  env: {after: hold-on, shell: 'echo "$WHERE"', env: {WHERE: "${task('index').result.where}"}}
  choose:
    after: hold-on
    route:
      - {if: task("index").result.index > params.threshold * 2.0, to: flood}
      - {if: task("index").result.index > params.threshold, to: [warn, log]}
      - {else: calm}
  flood: {after: choose, shell: 'true'}
  warn: {after: choose, shell: 'true'}
  log: {after: choose, shell: 'true'}
  calm: {after: choose, shell: 'true'}
  never: {after: hold-on, only_if: 'run.cause == "schedule"', shell: 'true'}
  broken: {after: hold-on, only_if: 'task("index").result.columns > 3', shell: 'true', may_fail: true}
  no-window: {after: hold-on, exec: [echo, "${window.start}"], may_fail: true, retry: {times: 3}}
  report: {after: {flood: settled, warn: settled, calm: settled}, shell: 'echo met'}
`, gate))
	run := s.Begin(t, "w")
	s.Until(t, run.ID, func(r client.Run) bool { return testkit.Task(t, r, "hold-on").State == "running" })
	s.Stop(t) // what index left is known in the next life too
	if err := os.WriteFile(gate, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	s = testkit.StartIn(t, dir)
	ended := s.End(t, run.ID)
	for name, want := range map[string]string{
		"words": "succeeded ", "choose": "succeeded it chose warn, log", "flood": "skipped the route choose did not choose it", "warn": "succeeded ", "log": "succeeded ",
		"calm": "skipped the route choose did not choose it", "never": `skipped its condition is false: run.cause == "schedule"`, "report": "succeeded ",
		"broken":    `failed its condition cannot be told: task("index").result.columns > 3: there is no "columns" in it`,
		"no-window": "failed what it is to be given cannot be told: window.start: the run has no window; start it with --window",
	} {
		if got := testkit.Task(t, ended, name); got.State+" "+got.Reason != want {
			t.Errorf("%s: %s %s, want %s", name, got.State, got.Reason, want)
		}
	}
	if log := s.Log(t, run.ID, "words", 1); log != "out [G01][G 02][at G03; rm -rf][a b][c][${HOME}]\n" {
		t.Errorf("the words: %s", log)
	}
	if log := s.Log(t, run.ID, "env", 1); log != "out G03; rm -rf\n" {
		t.Errorf("the variable: %s", log)
	}
	if ended.State != "succeeded" {
		t.Errorf("the run is %s", ended.State)
	}
}

// A run over its deadline is ended, also when the service was away meanwhile.
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

func TestTasksAreMadeAgainWithinTheirRun(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	s := testkit.StartIn(t, dir)
	s.Apply(t, `
workflow: again
params: {level: {type: number, default: 9}}
tasks:
  collect: {shell: 'echo collected'}
  load: {after: collect, shell: 'echo "level $LANTERN_PARAM_LEVEL"; test "$LANTERN_PARAM_LEVEL" != 9'}
  report: {after: load, shell: 'echo reported'}
  other: {shell: 'echo other'}
`)
	run := s.End(t, s.Begin(t, "again").ID)
	if run.State != "failed" {
		t.Fatalf("%+v", run)
	}
	s.Stop(t)
	s = testkit.StartIn(t, dir) // it had ended in an earlier life
	ctx := testkit.Context(t)
	rerun := func(request client.RerunRequest) string {
		again, err := s.Rerun(ctx, run.ID, request)
		if err != nil {
			return err.Error()
		}
		return strings.Join(again.Tasks, " ")
	}
	for _, c := range []struct {
		request client.RerunRequest
		want    string
	}{
		{client.RerunRequest{Failed: true, DryRun: true}, "load report"},
		{client.RerunRequest{From: []string{"collect"}, DryRun: true}, "collect load report"},
		{client.RerunRequest{Only: []string{"other", "collect"}, DryRun: true}, "collect other"},
		{client.RerunRequest{}, "say exactly one of failed, from and only"},
		{client.RerunRequest{Failed: true, Only: []string{"load"}}, "say exactly one of failed, from and only"},
		{client.RerunRequest{From: []string{"lod"}}, `there is no task "lod"; did you mean "load"?`},
		{client.RerunRequest{Failed: true, Texts: map[string]string{"level": "high"}}, `param "level": "high" is not of the type number`},
		{client.RerunRequest{Failed: true, Texts: map[string]string{"level": "2.5"}}, "load report"},
	} {
		if got := rerun(c.request); got != c.want {
			t.Errorf("%+v: %s, want %s", c.request, got, c.want)
		}
	}
	ended := s.EndAgain(t, run.ID, run.Ended)
	if ended.State != "succeeded" || ended.Params["level"] != 2.5 {
		t.Fatalf("%+v", ended)
	}
	for name, attempts := range map[string]int{"collect": 1, "load": 2, "report": 1, "other": 1} {
		if got := testkit.Task(t, ended, name); len(got.Attempts) != attempts || got.State != "succeeded" {
			t.Errorf("%s has %d attempts and is %s", name, len(got.Attempts), got.State)
		}
	}
	if log := s.Log(t, run.ID, "load", 1) + s.Log(t, run.ID, "load", 2); log != "out level 9\nout level 2.5\n" {
		t.Errorf("the logs of both attempts: %q", log)
	}
	if got := rerun(client.RerunRequest{Failed: true}); !strings.Contains(got, "nothing in run again:1 has failed") {
		t.Errorf("again: %s", got)
	}
}

// The live stream tells every change once, and goes on from any id.
func TestTheLiveStreamGoesOnFromAnyChange(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, "workflow: w\ntasks: {a: {shell: 'true'}, b: {after: a, shell: 'true'}}")
	run := s.End(t, s.Begin(t, "w").ID)
	all, err := s.Changes(testkit.Context(t), run.ID)
	if err != nil || len(all) != 9 { // the run is queued, runs and succeeds; each task is ready, runs and succeeds
		t.Fatalf("%d changes: %+v, %v", len(all), all, err)
	}
	var told []client.Change
	err = s.Follow(testkit.Context(t), run.ID, all[2].ID, func(c client.Change) error {
		told = append(told, c)
		if c.Task == "" && c.After == "succeeded" {
			return io.EOF
		}
		return nil
	})
	if err != nil || len(told) != len(all)-3 || told[0] != all[3] {
		t.Errorf("from change %d on %d of %d were told: %v", all[2].ID, len(told), len(all), err)
	}
	last := int64(0)
	for _, c := range all {
		if c.ID <= last {
			t.Errorf("change %d comes after %d", c.ID, last)
		}
		last = c.ID
	}
	// A stream of a run that nothing happens to ends with its context, quietly.
	ctx, stop := context.WithTimeout(context.Background(), 100*time.Millisecond)
	defer stop()
	if err := s.Follow(ctx, run.ID, -1, func(client.Change) error { t.Error("something was told"); return nil }); err != context.DeadlineExceeded {
		t.Errorf("%v", err)
	}
}

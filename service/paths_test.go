package service_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wiselantern/client"
	"wiselantern/internal/testkit"
)

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
	// A run whose only order cannot be made ends, and is told once.
	s.Apply(t, "workflow: one\ntasks: {a: {exec: [echo, \"${window.start}\"]}}")
	failed := s.End(t, s.Begin(t, "one").ID)
	changes, err := s.Changes(testkit.Context(t), failed.ID)
	if err != nil || failed.State != "failed" || len(changes) != 5 { // queued, running, ready, failed, failed
		t.Errorf("%s after %+v (%v)", failed.State, changes, err)
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

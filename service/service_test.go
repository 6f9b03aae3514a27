package service_test

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wiselantern/client"
	"wiselantern/internal/testkit"
	"wiselantern/service"
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

func TestTheLiveStreamGoesOnFromAnyChange(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, "workflow: w\ntasks: {a: {shell: 'true'}, b: {after: a, shell: 'true'}}")
	run := s.End(t, s.Begin(t, "w").ID)
	all, err := s.Changes(testkit.Context(t), run.ID)
	if err != nil || len(all) < 7 { // the run is queued, runs and succeeds; each task is ready and succeeds, and runs if that is heard of before its end
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

// Where a message server is told to be, nobody reads the password that stands before it.
func TestThePasswordOfAMessageServerIsNotTold(t *testing.T) {
	for url, want := range map[string]string{
		"":                                "",
		"nats://messages-1:4222":          "nats://messages-1:4222",
		"nats://lantern:p@ss@messages-1":  "nats://messages-1",
		"lantern:secret@messages-1:4222":  "messages-1:4222",
		"tls://a:b@m-1:4222,tls://c@m-2":  "tls://m-1:4222,tls://m-2",
		"wss://messages.example/lantern/": "wss://messages.example/lantern/",
	} {
		if got := (service.Messages{URL: url}).Public(); got != want {
			t.Errorf("%s is told as %s, not %s", url, got, want)
		}
	}
}

package engine

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"wiselantern/core/calendar"
	"wiselantern/core/flow"
	"wiselantern/core/match"
	"wiselantern/service/dispatch"
	"wiselantern/service/signals"
	"wiselantern/service/store"
)

// send puts an event on the bus.
func (l *life) send(t *testing.T, kind, id string, change ...func(*match.Event)) Received {
	t.Helper()
	e := match.Event{ID: id, Source: "/gauges", Type: kind}
	for _, c := range change {
		c(&e)
	}
	got, err := l.Receive(t.Context(), []match.Event{e}, "api", "kari")
	if err != nil {
		t.Fatal(err)
	}
	synctest.Wait()
	return got[0]
}

func about(subject string) func(*match.Event) {
	return func(e *match.Event) { e.Subject = subject }
}

func saying(data map[string]any) func(*match.Event) { return func(e *match.Event) { e.Data = data } }

// stand compares the states of the tasks of the newest run, as in "a succeeded, b
// ready".
func (l *life) stand(t *testing.T, workflow, want string) {
	t.Helper()
	synctest.Wait()
	_, got, _ := strings.Cut(l.states(t, workflow), " ")
	for _, s := range flow.States() {
		want = strings.ReplaceAll(want, " "+s.String(), s.Glyph())
	}
	if want = strings.ReplaceAll(want, ",", ""); got != want {
		t.Errorf("%s is\n     %s, not\n     %s", workflow, got, want)
	}
}

func causes(runs []store.Run) string {
	var all []string
	for _, r := range runs {
		all = append(all, r.Cause+" "+r.CausedBy+" "+r.Params)
	}
	return strings.Join(all, " | ")
}

const storm = `
workflow: storm
if_running: alongside
params: {basin: {type: choice, of: [upper, lower], default: lower}}
starts:
  - event: storm.*
    where: event.data.level >= 2
    params: {basin: "${event.data.basin}"}
tasks: {read: {exec: [x, "${event.data.level}", "${events.size()}"]}}`

func TestAnEventStartsARunOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		l.apply(t, storm)
		high := saying(map[string]any{"level": 2.5, "basin": "upper"})
		first := l.send(t, "storm.warning", "1", high)
		for range 10 {
			if again := l.send(t, "storm.warning", "1", high); !again.Known || again.ID != first.ID {
				t.Errorf("the same event again: %+v, first %+v", again, first)
			}
		}
		l.send(t, "storm.warning", "2", saying(map[string]any{"level": 1.5, "basin": "upper"})) // where is false
		l.send(t, "storm.warning", "3")                                                         // where cannot be told
		l.send(t, "calm.warning", "4", high)
		l.send(t, "storm.warning", "5", saying(map[string]any{"level": 3, "basin": "middle"})) // no basin of that name
		if got := causes(l.runs(t, "storm")); got != `event storm.warning {"basin":"upper"}` {
			t.Errorf("runs: %s", got)
		}
		if orders := l.hands.take(); len(orders) != 1 || strings.Join(orders[0].Exec, " ") != "x 2.5 1" {
			t.Errorf("orders: %+v", orders)
		}
		answers, err := l.store.Answers(t.Context(), []int64{1, 2, 3, 4, 5, 6})
		if err != nil {
			t.Fatal(err)
		}
		var said []string
		for _, a := range answers {
			said = append(said, fmt.Sprintf("%d %s %s", a.Event, a.State, a.Reason))
		}
		want := []string{"1 run ", "3 none its where cannot be told: event.data.level >= 2: ", `5 none the params of its run cannot be told: param "basin": `}
		for i := range max(len(want), len(said)) {
			if i >= len(said) || i >= len(want) || !strings.HasPrefix(said[i], want[i]) {
				t.Fatalf("answers: %q, want %q", said, want)
			}
		}
	})
}

func TestEventsThatAreRefused(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		for want, e := range map[string]match.Event{
			"has no id":                     {Source: "/a", Type: "t"},
			"told by the service alone":     {ID: "1", Source: "/a", Type: "lantern.run.ended"},
			"names the data set as its sub": {ID: "1", Source: "/a", Type: DatasetUpdated},
			"over the limit of 262144":      {ID: "1", Source: "/a", Type: "t", Data: strings.Repeat("x", 300_000)},
		} {
			if _, err := l.Receive(t.Context(), []match.Event{{ID: "0", Source: "/a", Type: "t"}, e}, "api", ""); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%s: %v", want, err)
			}
		}
		if all, err := l.store.Events(t.Context(), store.EventFilter{Limit: 10}); err != nil || len(all) != 0 {
			t.Errorf("of a batch that was refused %d events were taken: %v", len(all), err)
		}
	})
}

// A run is for what came within a while, however often the service is killed
// meanwhile.
func TestEventsAreGathered(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		l.apply(t, "workflow: w\nstarts: [{event: rain, collect: 10m, params: {n: \"${events.size()}\"}}, {event: hail, settle: 1m}]\nparams: {n: {type: whole, default: 0}}\nif_running: alongside\ntasks: {a: {exec: [x]}}")
		for i := range 5 {
			l.send(t, "rain", fmt.Sprint(i))
			time.Sleep(time.Minute)
			if i == 2 {
				l = l.again(t)
			}
		}
		for i := range 5 { // each within a minute of the one before
			l.send(t, "hail", fmt.Sprint("h", i))
			time.Sleep(50 * time.Second)
		}
		if got := causes(l.runs(t, "w")); got != "" {
			t.Errorf("runs made too early: %s", got)
		}
		time.Sleep(time.Hour)
		if got := causes(l.runs(t, "w")); got != `event rain and 4 more {"n":5} | event hail and 4 more {"n":0}` && got != `event hail and 4 more {"n":0} | event rain and 4 more {"n":5}` {
			t.Errorf("runs: %s", got)
		}
	})
}

func TestWhatComesWhileAWorkflowIsPausedIsKept(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		l.apply(t, "workflow: w\nstarts: [{event: rain}]\nif_running: alongside\ntasks: {a: {exec: [x]}}")
		if err := l.Pause(t.Context(), "w", "kari"); err != nil {
			t.Fatal(err)
		}
		l.send(t, "rain", "1")
		l.send(t, "rain", "2")
		l = l.again(t)
		if n := len(l.runs(t, "w")); n != 0 {
			t.Errorf("%d runs while it was paused", n)
		}
		if kept, err := l.Resume(t.Context(), "w"); err != nil || kept != 2 {
			t.Errorf("resumed with %d kept: %v", kept, err)
		}
		if n := len(l.runs(t, "w")); n != 2 {
			t.Errorf("%d runs, want 2", n)
		}
	})
}

// A wait takes no order, and accepts what came before it began, back to when its run
// was made.
func TestAWaitForAnEvent(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		l.apply(t, `
workflow: w
if_running: alongside
params: {gauge: {type: text, default: G01}}
tasks:
  first: {exec: [x]}
  wait: {after: first, wait: {event: gauge.*, subject: "${params.gauge}", where: event.data.level > 2}, timeout: 2h}
  last: {after: wait, exec: [y, "${task('wait').result.event.data.level}"]}`)
		level := func(n float64) func(*match.Event) { return saying(map[string]any{"level": n}) }
		l.send(t, "gauge.read", "0", about("G01"), level(9)) // before the run was made
		time.Sleep(time.Second)
		run := l.begin(t, "w", calendar.Window{})
		l.send(t, "gauge.read", "1", about("G02"), level(3))
		l.send(t, "gauge.read", "2", about("G01"), level(1))
		l.report(t, "first", dispatch.Succeeded, "")
		l.stand(t, "w", "first succeeded, wait waiting, last idle")
		l.send(t, "gauge.read", "3", about("G01")) // its where cannot be told
		l = l.again(t)
		l.stand(t, "w", "first succeeded, wait waiting, last idle")
		l.send(t, "gauge.read", "4", about("G01"), level(2.5))
		l.stand(t, "w", "first succeeded, wait succeeded, last ready")
		if orders := l.report(t, "last", dispatch.Succeeded, ""); strings.Join(orders["last"].Exec, " ") != "y 2.5" {
			t.Errorf("what came after was given %v", orders["last"].Exec)
		}
		lines, err := l.store.Logs.Lines(t.Context(), store.LogOf{Run: run.ID, Task: 1, Attempt: 1}, 0, 10)
		if err != nil || len(lines) != 2 || !strings.Contains(string(lines[0].Text), "its where is false") || !strings.Contains(string(lines[1].Text), "cannot be told") {
			t.Errorf("its log: %v, %v", lines, err)
		}
		// The one that came before the wait began, but after the run was made.
		time.Sleep(time.Second)
		l.begin(t, "w", calendar.Window{})
		l.send(t, "gauge.read", "5", about("G01"), level(7))
		l.report(t, "first", dispatch.Succeeded, "")
		if orders := l.report(t, "last", dispatch.Succeeded, ""); strings.Join(orders["last"].Exec, " ") != "y 7" {
			t.Errorf("what came after was given %v", orders["last"].Exec)
		}
	})
}

func TestTheTimeOfAWaitIsOver(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		l.apply(t, `
workflow: w
tasks:
  fails: {wait: {event: never}, timeout: 1h}
  skips: {wait: {event: never}, timeout: 1h, on_timeout: skip}
  again: {wait: {event: never}, timeout: 20m, retry: {times: 1, pause: 5m, spread: 0%}}
  noon: {wait: {until: "2000-01-01T12:00:00Z"}}
  past: {wait: {until: "1999-01-01T12:00:00Z"}}
  after-skip: {after: {skips: clear}, exec: [x]}`)
		l.begin(t, "w", calendar.Window{})
		synctest.Wait()
		l.stand(t, "w", "fails waiting, skips waiting, again waiting, noon waiting, past succeeded, after-skip idle")
		time.Sleep(21 * time.Minute)
		l.stand(t, "w", "fails waiting, skips waiting, again cooling, noon waiting, past succeeded, after-skip idle")
		l = l.again(t)
		time.Sleep(10 * time.Minute)
		l.stand(t, "w", "fails waiting, skips waiting, again waiting, noon waiting, past succeeded, after-skip idle")
		time.Sleep(time.Hour)
		l.stand(t, "w", "fails failed, skips skipped, again failed, noon waiting, past succeeded, after-skip ready")
		time.Sleep(12 * time.Hour)
		l.stand(t, "w", "fails failed, skips skipped, again failed, noon succeeded, past succeeded, after-skip ready")
	})
}

func TestAWaitForSeveralThings(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		l.apply(t, `
workflow: w
tasks:
  both: {wait: {all: {scan: {event: scan}, permit: {event: permit}}}}
  either: {wait: {any: {scan: {event: scan}, late: {until: "2000-01-02T00:00:00Z"}}}}
  after: {after: both, exec: [x, "${task('both').result.permit.event.id}"]}`)
		l.begin(t, "w", calendar.Window{})
		synctest.Wait()
		l.send(t, "permit", "p1")
		l.stand(t, "w", "both waiting, either waiting, after idle")
		l = l.again(t)
		if waits, err := l.Awaited(t.Context(), 0); err != nil || len(waits) != 4 || waits[1].State != "came" || waits[0].For != "the event scan" || waits[0].State != "waiting" {
			t.Errorf("awaited: %+v, %v", waits, err)
		}
		l.send(t, "scan", "s1")
		l.stand(t, "w", "both succeeded, either succeeded, after ready")
		if orders := l.report(t, "after", dispatch.Succeeded, ""); strings.Join(orders["after"].Exec, " ") != "x p1" {
			t.Errorf("what came after was given %v", orders["after"].Exec)
		}
		if waits, err := l.Awaited(t.Context(), 0); err != nil || len(waits) != 0 || l.wanted.Len() != 0 {
			t.Errorf("after all that still awaited: %+v, %v", waits, err)
		}
	})
}

func TestAWaitIsStopped(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		l.apply(t, "workflow: w\ntasks: {a: {wait: {event: never}}, each: {for_each: [one, two], wait: {event: \"gauge\", subject: \"${item}\"}}, b: {after: a, exec: [x]}}")
		run := l.begin(t, "w", calendar.Window{})
		synctest.Wait()
		l.send(t, "gauge", "1", about("two"))
		if err := l.Stop(t.Context(), run, "", "kari"); err != nil {
			t.Fatal(err)
		}
		synctest.Wait()
		l.stand(t, "w", "a stopped, each stopped, b stopped, each[0] stopped, each[1] succeeded")
		if l.wanted.Len() != 0 || len(l.parked) != 0 {
			t.Errorf("%d patterns and %d parked attempts are left", l.wanted.Len(), len(l.parked))
		}
	})
}

func TestDataSets(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		l.apply(t, `
workflow: hourly
if_running: alongside
tasks: {load: {exec: [x], updates: {readings/clean: {fresh_within: 2h}}}}
---
workflow: daily
if_running: alongside
tasks: {wait: {wait: {dataset: readings/clean}}, sum: {after: wait, exec: [y, "${task('wait').result.updates}"]}}
---
workflow: each
if_running: alongside
starts: [{dataset: readings/clean}]
tasks: {a: {exec: [z, "${window.start}", "${event.data.info.rows}"]}}
---
workflow: both
if_running: alongside
starts: [{dataset: {all: [readings/clean, permits]}}]
tasks: {a: {exec: [z]}}`)
		day := time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)
		at := func(from, to int) calendar.Window {
			return calendar.Window{Start: day.Add(time.Duration(from) * time.Hour), End: day.Add(time.Duration(to) * time.Hour)}
		}
		l.begin(t, "daily", at(0, 4))
		for _, hour := range []int{2, 0, 3} {
			l.begin(t, "hourly", at(hour, hour+1))
			l.report(t, "load", dispatch.Succeeded, `{"rows": 36}`)
		}
		l.stand(t, "daily", "wait waiting, sum idle")
		l = l.again(t)
		l.begin(t, "hourly", at(1, 2))
		l.report(t, "load", dispatch.Succeeded, `{"updates": {"readings/clean": false}}`) // nothing was new
		l.stand(t, "daily", "wait waiting, sum idle")
		l.begin(t, "hourly", at(1, 2))
		l.report(t, "load", dispatch.Succeeded, `{"updates": {"readings/clean": {"rows": 30}}}`)
		l.stand(t, "daily", "wait succeeded, sum ready")
		if orders := l.report(t, "sum", dispatch.Succeeded, ""); strings.Join(orders["sum"].Exec, " ") != "y 4" {
			t.Errorf("it was given %v", orders["sum"].Exec)
		}
		if got := l.windows(t, "each"); got != "2-3 0-1 3-4 1-2" {
			t.Errorf("the windows of what each update started: %s", got)
		}
		if n := len(l.runs(t, "both")); n != 0 {
			t.Errorf("%d runs before the second data set was updated", n)
		}
		l.send(t, DatasetUpdated, "permit-1", about("permits"), saying(map[string]any{"rows": 3}))
		if got := causes(l.runs(t, "both")); got != `event data set readings/clean, permits {}` {
			t.Errorf("runs: %s", got)
		}
		uses, err := l.store.Uses(t.Context(), "readings/clean", 0, 100)
		if err != nil || len(uses) != 4+4+4 {
			t.Errorf("%d uses: %v", len(uses), err)
		}
	})
}

// A run by the clock is made only if there is something new, and what was decided is
// written down.
func TestOnlyIfThereIsSomethingNew(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		l.apply(t, "workflow: w\nif_running: alongside\nstarts: [{every: 1h}]\nonly_if: new(\"raw\")\ntasks: {a: {exec: [x]}}")
		time.Sleep(90 * time.Minute)
		l.send(t, DatasetUpdated, "1", about("raw"))
		l = l.again(t)
		time.Sleep(3 * time.Hour)
		if got := l.windows(t, "w"); got != "1-2" {
			t.Errorf("windows: %s", got)
		}
		if got := l.decided(t, "w"); !strings.Contains(got, `the only_if of the workflow is false: new("raw")`) {
			t.Errorf("decided: %s", got)
		}
		l.begin(t, "w", calendar.Window{}) // a person is not asked
	})
}

func TestWaitsForOtherWorkflows(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		l.apply(t, `
workflow: hourly
if_running: alongside
starts: [{every: 1h}]
result: {rows: "${task('load').result.rows}"}
tasks: {load: {exec: [x]}, quality/range: {after: load, exec: [r]}, quality/gaps: {after: load, may_fail: true, exec: [g]}}
---
workflow: same
if_running: alongside
tasks: {wait: {wait: {workflow: hourly}}, use: {after: wait, exec: [y, "${task('wait').result.result.rows}"]}}
---
workflow: group
if_running: alongside
tasks: {wait: {wait: {workflow: hourly, task: quality/*, expect: settled}}}
---
workflow: daily
if_running: alongside
tasks: {wait: {wait: {workflow: hourly, window: covering}}}
---
workflow: after
if_running: alongside
starts: [{workflow: hourly, expect: failed, params: {of: "${event.subject}"}}]
params: {of: {type: text, default: ""}}
tasks: {a: {exec: [z]}}`)
		day := time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)
		at := func(from, to int) calendar.Window {
			return calendar.Window{Start: day.Add(time.Duration(from) * time.Hour), End: day.Add(time.Duration(to) * time.Hour)}
		}
		for _, name := range []string{"same", "group"} {
			l.begin(t, name, at(0, 1))
		}
		l.begin(t, "daily", at(0, 3))
		synctest.Wait()
		time.Sleep(time.Hour + time.Minute)
		synctest.Wait()
		l = l.again(t)
		l.report(t, "load", dispatch.Succeeded, `{"rows": 36}`)
		l.stand(t, "group", "wait waiting")
		l.report(t, "quality/gaps", dispatch.Failed, "")
		l.stand(t, "group", "wait waiting")
		l.report(t, "quality/range", dispatch.Succeeded, "")
		l.stand(t, "group", "wait succeeded")
		l.stand(t, "same", "wait succeeded, use ready")
		if orders := l.report(t, "use", dispatch.Succeeded, ""); strings.Join(orders["use"].Exec, " ") != "y 36" {
			t.Errorf("it was given %v", orders["use"].Exec)
		}
		l.stand(t, "daily", "wait waiting")
		time.Sleep(time.Hour)
		synctest.Wait()
		l.begin(t, "same", at(1, 2))
		for _, task := range []string{"load", "quality/gaps", "quality/range"} {
			l.report(t, task, dispatch.Succeeded, "{}")
		}
		time.Sleep(time.Hour)
		synctest.Wait()
		l.begin(t, "same", at(2, 3))
		l.report(t, "load", dispatch.Failed, "") // it can no longer come
		synctest.Wait()
		l.stand(t, "daily", "wait failed")
		l.stand(t, "same", "wait failed, use unreached")
		if got := causes(l.runs(t, "after")); got != `workflow after hourly:3 {"of":"hourly:3"}` {
			t.Errorf("what starts when it fails: %s", got)
		}
		if got := l.windows(t, "after"); got != "2-3" {
			t.Errorf("its window: %s", got)
		}
		if len(l.Engine.awaited) != 0 {
			t.Errorf("still awaited: %v", l.Engine.awaited)
		}
	})
}

// A window that gets no run can no longer come; to those who expect that it may be
// skipped, it has.
func TestAWaitForAWindowThatGetsNoRun(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		l.apply(t, `
workflow: hourly
if_running: alongside
starts: [{every: 1h}]
only_if: new("raw")
tasks: {load: {exec: [x]}}
---
workflow: strict
if_running: alongside
tasks: {wait: {wait: {workflow: hourly}}}
---
workflow: mild
if_running: alongside
tasks: {wait: {wait: {workflow: hourly, expect: clear}}}
---
workflow: daily
if_running: alongside
tasks: {wait: {wait: {workflow: hourly, window: covering, expect: clear}}}`)
		day := time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)
		hour := calendar.Window{Start: day, End: day.Add(time.Hour)}
		l.begin(t, "strict", hour)
		l.begin(t, "mild", hour)
		l.begin(t, "daily", calendar.Window{Start: day, End: day.Add(2 * time.Hour)})
		l.stand(t, "strict", "wait waiting")
		time.Sleep(time.Hour + time.Second)
		l.stand(t, "strict", "wait failed")
		l.stand(t, "mild", "wait succeeded")
		l.stand(t, "daily", "wait waiting")
		l.send(t, DatasetUpdated, "1", about("raw"))
		time.Sleep(time.Hour)
		l.stand(t, "daily", "wait waiting")
		l = l.again(t)
		l.report(t, "load", dispatch.Succeeded, "")
		l.stand(t, "daily", "wait succeeded")
		l.begin(t, "strict", hour) // decided before it begins
		l.stand(t, "strict", "wait failed")
	})
}

func TestAQuestionIsAnswered(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		l.apply(t, `
workflow: w
if_running: alongside
tasks:
  sum: {exec: [x]}
  alarm: {after: sum, approve: {ask: "Publish ${task('sum').result.level}?", from: [duty], show: {level: "${task('sum').result.level}"}}}
  strict: {after: sum, approve: {ask: Sure?, no: fail}}
  late: {after: sum, approve: Go on?, timeout: 1h, on_timeout: yes}
  publish: {after: alarm, exec: [p, "${task('alarm').result.by}"]}`)
		run := l.begin(t, "w", calendar.Window{})
		synctest.Wait()
		if err := l.Answer(t.Context(), run, "alarm", 0, Reply{Yes: true, By: "duty"}); err == nil || !strings.Contains(err.Error(), "asks nothing now: it is idle") {
			t.Errorf("answered before it was asked: %v", err)
		}
		l.report(t, "sum", dispatch.Succeeded, `{"level": 2.5}`)
		l = l.again(t)
		waits, err := l.Awaited(t.Context(), run.ID)
		if err != nil || len(waits) != 3 || waits[0].Question.Ask != "Publish 2.5?" || waits[0].Question.Show["level"] != 2.5 {
			t.Fatalf("awaited: %+v, %v", waits, err)
		}
		if err := l.Answer(t.Context(), run, "alarm", 0, Reply{Yes: true, By: "kari"}); err == nil || !strings.Contains(err.Error(), "asks duty, and you are kari") {
			t.Errorf("somebody else answered: %v", err)
		}
		if err := l.Answer(t.Context(), run, "alarm", 2, Reply{Yes: true, By: "duty"}); err == nil || !strings.Contains(err.Error(), "attempt 1 asks now") {
			t.Errorf("an older question was answered: %v", err)
		}
		if err := l.Answer(t.Context(), run, "strict", 0, Reply{By: "kari", Reason: "not yet"}); err != nil {
			t.Fatal(err)
		}
		if err := l.Answer(t.Context(), run, "alarm", 0, Reply{Yes: true, By: "duty", Reason: "it rains"}); err != nil {
			t.Fatal(err)
		}
		synctest.Wait()
		l.stand(t, "w", "sum succeeded, alarm succeeded, strict failed, late waiting, publish ready")
		if err := l.Answer(t.Context(), run, "alarm", 0, Reply{By: "duty"}); err == nil || !strings.Contains(err.Error(), "it succeeded") {
			t.Errorf("answered twice: %v", err)
		}
		time.Sleep(time.Hour + time.Second)
		l.stand(t, "w", "sum succeeded, alarm succeeded, strict failed, late succeeded, publish ready")
		if orders := l.report(t, "publish", dispatch.Succeeded, ""); strings.Join(orders["publish"].Exec, " ") != "p duty" {
			t.Errorf("it was given %v", orders["publish"].Exec)
		}
		changes, err := l.store.Transitions(t.Context(), 0, run.ID, 1000)
		if err != nil {
			t.Fatal(err)
		}
		who := ""
		for _, c := range changes {
			if c.Before == "waiting" && c.Person != "" {
				who += fmt.Sprintf("%d %s; ", c.Task.Int64, c.Person)
			}
		}
		if who != "2 kari; 1 duty; " {
			t.Errorf("who answered: %s", who)
		}
	})
}

func TestFollowOn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		l.apply(t, `
workflow: first
if_running: alongside
tasks: {load: {exec: [x], updates: [raw]}, other: {exec: [o]}}
---
workflow: second
if_running: alongside
starts: [{dataset: raw}]
tasks: {sum: {exec: [y], updates: [sums]}}
---
workflow: third
if_running: alongside
tasks: {wait: {wait: {workflow: second, window: newest}}, side: {exec: [s]}, show: {after: wait, exec: [z]}}`)
		first := l.begin(t, "first", calendar.Window{})
		synctest.Wait()
		l.report(t, "load", dispatch.Succeeded, "")
		l.report(t, "other", dispatch.Succeeded, "")
		l.begin(t, "third", calendar.Window{})
		synctest.Wait()
		l.report(t, "side", dispatch.Succeeded, "")
		l.report(t, "sum", dispatch.Succeeded, "")
		l.report(t, "show", dispatch.Succeeded, "")
		l.stand(t, "third", "wait succeeded, side succeeded, show succeeded")

		if _, followers, err := l.Rerun(t.Context(), first, Selection{Only: []string{"other"}}, nil, "kari", true, true); err != nil || len(followers) != 0 {
			t.Errorf("nothing rested on other, and %+v follow: %v", followers, err)
		}
		again, followers, err := l.Rerun(t.Context(), first, Selection{Only: []string{"load"}}, nil, "kari", true, true)
		if err != nil || fmt.Sprint(again, followers) != "[load] [{second:1 [] [first:1]} {third:1 [wait show] [second:1]}]" {
			t.Fatalf("followers: %v %v, %v", again, followers, err)
		}
		if _, _, err := l.Rerun(t.Context(), first, Selection{Only: []string{"load"}}, nil, "kari", true, false); err != nil {
			t.Fatal(err)
		}
		synctest.Wait()
		l.stand(t, "second", "sum succeeded")
		l = l.again(t)
		l.report(t, "load", dispatch.Succeeded, "")
		l.stand(t, "first", "load succeeded, other succeeded")
		l.stand(t, "third", "wait succeeded, side succeeded, show succeeded")
		if second := l.runs(t, "second"); l.stateOf(t, second[0]) != "running" {
			t.Errorf("the second run is %s", l.stateOf(t, second[0]))
		}
		l.report(t, "sum", dispatch.Succeeded, "")
		if n := len(l.runs(t, "second")); n != 1 {
			t.Errorf("the update that was made again has started a run besides: there are %d", n)
		}
		synctest.Wait()
		l.stand(t, "third", "wait succeeded, side succeeded, show ready")
		l.report(t, "show", dispatch.Succeeded, "")
		if len(l.follow) != 0 {
			t.Errorf("left to follow: %+v", l.follow)
		}
		// What failed is not followed.
		if _, _, err := l.Rerun(t.Context(), first, Selection{Only: []string{"load"}}, nil, "kari", true, false); err != nil {
			t.Fatal(err)
		}
		synctest.Wait()
		l.report(t, "load", dispatch.Failed, "")
		synctest.Wait()
		l.stand(t, "third", "wait succeeded, side succeeded, show succeeded")
		if len(l.follow) != 0 {
			t.Errorf("after a failure left to follow: %+v", l.follow)
		}
	})
}

func TestRemovingAWorkflowTellsWhoWouldMissIt(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		text := "workflow: a\nstarts: [{every: 1h}]\ntasks: {load: {exec: [x], updates: [raw]}}\n---\nworkflow: b\ntasks: {w: {wait: {workflow: a}}, d: {wait: {dataset: raw}}}\n---\nworkflow: c\nstarts: [{workflow: a}]\ntasks: {x: {exec: [x]}}"
		l.apply(t, text)
		_, err := l.Remove(t.Context(), "a", "kari", false, false)
		for _, want := range []string{"b waits for it, in task w", "c starts after it", "b leans on the data set raw", "--anyway"} {
			if err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("want %q in: %v", want, err)
			}
		}
		if _, err := l.Remove(t.Context(), "a", "kari", true, false); err != nil {
			t.Fatal(err)
		}
		l = l.again(t)
		time.Sleep(3 * time.Hour)
		if _, err := l.Start(t.Context(), "a", Wanted{}, "kari"); err == nil || len(l.runs(t, "a")) != 0 {
			t.Errorf("it is gone, and still: %v, %d runs", err, len(l.runs(t, "a")))
		}
		l.apply(t, text)
		time.Sleep(time.Hour)
		synctest.Wait()
		if n := len(l.runs(t, "a")); n != 1 {
			t.Errorf("after it came back it has %d runs, want that of one hour", n)
		}
	})
}

func TestCirclesAreRefused(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		l.apply(t, "workflow: a\nstarts: [{dataset: x}]\ntasks: {t: {exec: [x], updates: [y]}}")
		for want, text := range map[string]string{
			"a starts data set y starts b starts data set x starts a":                     "workflow: b\nstarts: [{dataset: y}]\ntasks: {t: {exec: [x], updates: [x]}}",
			"which does not exist; apply that one first":                                  "workflow: b\nstarts: [{workflow: nobody}]\ntasks: {t: {exec: [x]}}",
			`waits, in task t, for a, which has no task "load"`:                           "workflow: b\ntasks: {t: {wait: {workflow: a, task: load}}}",
			`starts by event storm, and nothing would give it the required param "basin"`: "workflow: b\nparams: {basin: {type: text, required: true}}\nstarts: [{event: storm}]\ntasks: {t: {exec: [x]}}",
			"nobody knows which of its windows":                                           "workflow: b\ntasks: {t: {wait: {workflow: a, window: covering}}}",
		} {
			err := l.applied(t, text)
			if err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%s: %v", want, err)
			}
		}
	})
}

// sights is what looks outside, in the hand of the test.
type sights struct{ watches map[signals.ID]signals.Watch }

func (s *sights) Watch(w signals.Watch) { s.watches[w.ID] = w }
func (s *sights) Forget(id signals.ID)  { delete(s.watches, id) }

func TestFilesAreGivenToAStartOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		eyes := &sights{map[signals.ID]signals.Watch{}}
		l.SetWatcher(eyes)
		l.Files = "/srv"
		l.apply(t, "workflow: w\nif_running: alongside\nstarts: [{file: 'inbox/*.csv', where: event.data.size > 0, params: {path: '${event.data.path}'}}]\nparams: {path: {type: text, default: ''}}\ntasks: {a: {exec: [x]}}")
		synctest.Wait()
		if len(eyes.watches) != 1 {
			t.Fatalf("watched: %v", eyes.watches)
		}
		see := func(l *life, files ...signals.File) {
			for id, w := range eyes.watches {
				if w.Globs[0] != "/srv/inbox/*.csv" {
					t.Errorf("it looks at %v", w.Globs)
				}
				if _, err := l.Saw(context.Background(), id, signals.Sight{Files: files}); err != nil {
					t.Fatal(err)
				}
			}
		}
		one, two := signals.File{Path: "/srv/inbox/1.csv", Size: 5, Modified: time.Unix(1, 0)}, signals.File{Path: "/srv/inbox/2.csv", Size: 0, Modified: time.Unix(2, 0)}
		see(l, one)
		see(l, one, two)
		l = l.again(t)
		l.SetWatcher(eyes)
		two.Size = 9 // it has grown since
		see(l, one, two)
		see(l, one, two)
		if got := causes(l.runs(t, "w")); got != `event file /srv/inbox/1.csv {"path":"/srv/inbox/1.csv"} | event file /srv/inbox/2.csv {"path":"/srv/inbox/2.csv"}` {
			t.Errorf("runs: %s", got)
		}
		if _, err := l.Remove(t.Context(), "w", "kari", true, false); err == nil {
			t.Error("it was removed while its runs were queued")
		}
	})
}

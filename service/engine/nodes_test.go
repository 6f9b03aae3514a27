package engine

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"wiselantern/core/calendar"
	"wiselantern/core/definition"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// report ends the attempts that are out of a task, or of all whose names begin
// with it and a bracket, and returns their orders by name.
func (l *life) report(t *testing.T, task string, outcome dispatch.Outcome, result string) map[string]dispatch.Order {
	t.Helper()
	orders := map[string]dispatch.Order{}
	for _, o := range l.hands.take() {
		if o.TaskName != task && !strings.HasPrefix(o.TaskName, task+"[") {
			l.hands.mu.Lock()
			l.hands.orders = append(l.hands.orders, o)
			l.hands.mu.Unlock()
			continue
		}
		orders[o.TaskName] = o
		ended := dispatch.Ended{AttemptID: o.AttemptID, Worker: "hands", Started: time.Now(), At: time.Now(), Outcome: outcome, Result: json.RawMessage(result)}
		code := 0
		if outcome == dispatch.Failed {
			ended.Error, code = "it broke", 1
		}
		ended.ExitCode = &code
		if err := l.Ended(t.Context(), ended); err != nil {
			t.Fatal(err)
		}
	}
	return orders
}

// again ends this life and begins the next one on the same folder.
func (l *life) again(t *testing.T) *life {
	t.Helper()
	l.stop()
	next := begin(t, l.store.Dir())
	if err := next.GoOn(t.Context(), anyGone); err != nil {
		t.Fatal(err)
	}
	return next
}

// states are the states of a run and of its tasks, as in "running a● b◔".
func (l *life) states(t *testing.T, workflow string) string {
	t.Helper()
	runs := l.runs(t, workflow)
	if len(runs) == 0 {
		return "none"
	}
	run := runs[len(runs)-1]
	version, err := l.store.Version(t.Context(), run.Workflow, run.Version)
	if err != nil {
		t.Fatal(err)
	}
	v, err := newVersion(version)
	if err != nil {
		t.Fatal(err)
	}
	restored, err := l.restore(t.Context(), run, v)
	if err != nil {
		t.Fatal(err)
	}
	out := run.State
	for i, task := range restored.run.Tasks {
		if v.plan.Current(restored.run, i) {
			out += " " + v.plan.Label(restored.run, i) + task.State.Glyph()
		}
	}
	return out
}

func (l *life) want(t *testing.T, workflow, states string) {
	t.Helper()
	synctest.Wait()
	if got := l.states(t, workflow); got != states {
		t.Errorf("%s is\n     %s, not\n     %s", workflow, got, states)
	}
}

func (l *life) begin(t *testing.T, workflow string, window calendar.Window) store.Run {
	t.Helper()
	run, err := l.Start(t.Context(), workflow, Wanted{Window: window}, "kari")
	if err != nil {
		t.Fatal(err)
	}
	return run
}

const each = `
workflow: each
params: {stations: {type: list, default: [G01, G02, G03]}}
tasks:
  range:
    for_each: params.stations
    at_once: 2
    retry: {times: 1, pause: 10s}
    exec: [bin/range, "${item}"]
    env: {UPPER: "${item + '!'}"}
  sum:
    after: {range: settled}
    exec: [bin/sum, "${task('range').results}"]
    env: {COUNT: "${task('range').results.filter(r, r != null).size()}"}
`

func TestItemsGoOnAfterARestart(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		if err := l.GoOn(t.Context(), anyGone); err != nil {
			t.Fatal(err)
		}
		l.apply(t, each)
		run := l.begin(t, "each", calendar.Window{})
		l.want(t, "each", "running range◐ sum· range[0]◔ range[1]◔ range[2]·")
		l = l.again(t)
		l.want(t, "each", "running range◐ sum· range[0]◔ range[1]◔ range[2]·")
		orders := l.report(t, "range[0]", dispatch.Succeeded, `{"high": 1}`)
		if o := orders["range[0]"]; fmt.Sprint(o.Exec) != "[bin/range G01]" || o.Env["UPPER"] != "G01!" || o.Env["LANTERN_ITEM"] != "G01" {
			t.Errorf("its order is %+v", o)
		}
		l.report(t, "range[1]", dispatch.Failed, "")
		l.want(t, "each", "running range◐ sum· range[0]● range[1]◑ range[2]◔")
		l = l.again(t)
		l.report(t, "range[2]", dispatch.Succeeded, `{"high": 3}`)
		time.Sleep(time.Minute)
		l.want(t, "each", "running range◐ sum· range[0]● range[1]◔ range[2]●")
		l.report(t, "range[1]", dispatch.Failed, "")
		l.want(t, "each", "running range✕ sum◔ range[0]● range[1]✕ range[2]●")
		l = l.again(t)
		if o := l.report(t, "sum", dispatch.Succeeded, "")["sum"]; fmt.Sprint(o.Exec) != `[bin/sum {"high":1}  {"high":3}]` || o.Env["COUNT"] != "2" {
			t.Errorf("what comes after is given %q and %v", o.Exec, o.Env)
		}
		l.want(t, "each", "failed range✕ sum● range[0]● range[1]✕ range[2]●")

		again, _, err := l.Rerun(t.Context(), run, Selection{Failed: true}, nil, "kari", false, false)
		if err != nil || fmt.Sprint(again) != "[range[1]]" {
			t.Errorf("made again are %v: %v", again, err)
		}
		l.want(t, "each", "running range◐ sum● range[0]● range[1]◔ range[2]●")
		l = l.again(t)
		l.report(t, "range[1]", dispatch.Succeeded, "")
		l.want(t, "each", "succeeded range● sum● range[0]● range[1]● range[2]●")

		_, _, err = l.Rerun(t.Context(), run, Selection{From: []string{"range"}}, definition.Values{"stations": []any{"G07"}}, "kari", false, false)
		if err != nil {
			t.Error(err)
		}
		l.want(t, "each", "running range◐ sum· range[0]◔")
		if o := l.report(t, "range[0]", dispatch.Succeeded, "")["range[0]"]; fmt.Sprint(o.Exec) != "[bin/range G07]" {
			t.Errorf("its order is %+v", o)
		}
		l.report(t, "sum", dispatch.Succeeded, "")
		l.want(t, "each", "succeeded range● sum● range[0]●")
		for name, want := range map[string]string{"range[2]": "no longer in the list", "range[9]": `no task "range[9]"`} {
			if _, _, err := l.Rerun(t.Context(), run, Selection{Only: []string{name}}, nil, "kari", false, true); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%s: %v", name, err)
			}
		}
	})
}

const within = `
workflow: within
resources:
  scratch:
    open:  {exec: [bin/up]}
    close: {exec: [bin/down, "${resource('scratch').result.folder}"]}
tasks:
  load: {within: scratch, exec: [bin/load, "${resource('scratch').result.folder}"]}
  index: {after: load, within: scratch, exec: [bin/index]}
`

func TestAResourceIsClosedAfterARestartAndAfterAStop(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		if err := l.GoOn(t.Context(), anyGone); err != nil {
			t.Fatal(err)
		}
		l.apply(t, within)
		run := l.begin(t, "within", calendar.Window{})
		l.want(t, "within", "running load· index· scratch:open◔ scratch:close·")
		l = l.again(t)
		l.report(t, "scratch:open", dispatch.Succeeded, `{"folder": "/srv/a"}`)
		l.want(t, "within", "running load◔ index· scratch:open● scratch:close·")
		l = l.again(t)
		if o := l.report(t, "load", dispatch.Failed, "")["load"]; fmt.Sprint(o.Exec) != "[bin/load /srv/a]" {
			t.Errorf("its order is %+v", o)
		}
		l.want(t, "within", "running load✕ index○ scratch:open● scratch:close◔")
		if _, _, err := l.Rerun(t.Context(), run, Selection{Failed: true}, nil, "kari", false, false); err == nil || !strings.Contains(err.Error(), "is just being closed; wait for the end of scratch:close") {
			t.Errorf("made again within what is being closed: %v", err)
		}
		l = l.again(t)
		if o := l.report(t, "scratch:close", dispatch.Failed, "")["scratch:close"]; fmt.Sprint(o.Exec) != "[bin/down /srv/a]" {
			t.Errorf("its order is %+v", o)
		}
		l.want(t, "within", "failed load✕ index○ scratch:open● scratch:close✕")

		if _, _, err := l.Rerun(t.Context(), run, Selection{Only: []string{"scratch:open"}}, nil, "kari", false, false); err == nil || !strings.Contains(err.Error(), "name those") {
			t.Errorf("an opening alone is made again: %v", err)
		}
		if _, _, err := l.Rerun(t.Context(), run, Selection{From: []string{"load"}}, nil, "kari", false, false); err != nil {
			t.Fatal(err)
		}
		l.report(t, "scratch:open", dispatch.Succeeded, `{"folder": "/srv/b"}`)
		l.want(t, "within", "running load◔ index· scratch:open● scratch:close·")
		if err := l.Stop(t.Context(), run, "", "kari"); err != nil {
			t.Fatal(err)
		}
		l.want(t, "within", "running load■ index■ scratch:open● scratch:close◔")
		l = l.again(t)
		if o := l.report(t, "scratch:close", dispatch.Succeeded, "")["scratch:close"]; fmt.Sprint(o.Exec) != "[bin/down /srv/b]" {
			t.Errorf("its order is %+v", o)
		}
		l.want(t, "within", "stopped load■ index■ scratch:open● scratch:close●")
	})
}

const outer = `
workflow: outer
tasks:
  basin:
    for_each: [upper, lower]
    retry: {times: 1, pause: 10s}
    start: {workflow: inner, params: {basin: "${item}", depth: "${1 + 1}"}}
  sum: {after: basin, exec: [bin/sum, "${task('basin').results.map(r, r.rows)}"]}
---
workflow: inner
if_running: alongside
params: {basin: {type: choice, of: [upper, lower], required: true}, depth: {type: whole, default: 1}}
tasks: {load: {exec: [bin/load, "${params.basin}"]}}
result: {rows: "${task('load').result.rows * 2.0}", basin: "${params.basin}"}
---
workflow: aside
tasks: {tell: {start: {workflow: inner, wait: false, window: none, params: {basin: upper}}}}
---
workflow: late
tasks: {slow: {timeout: 1h, start: {workflow: inner, params: {basin: upper}}}}
`

func TestWorkflowsInWorkflows(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		if err := l.GoOn(t.Context(), anyGone); err != nil {
			t.Fatal(err)
		}
		l.apply(t, outer)
		day := calendar.Window{Start: time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC), End: time.Date(2000, 1, 2, 0, 0, 0, 0, time.UTC)}
		run := l.begin(t, "outer", day)
		l.want(t, "outer", "running basin◐ sum· basin[0]◌ basin[1]◌")
		inner := l.runs(t, "inner")
		if len(inner) != 2 || inner[0].Cause != "workflow" || inner[0].CausedBy != "basin[0] of outer:1" || !inner[1].WindowEnd.Time().Equal(day.End) || !strings.Contains(inner[1].Params, `"depth":2`) {
			t.Fatalf("%+v", inner)
		}
		l = l.again(t)
		l.report(t, "load", dispatch.Succeeded, `{"rows": 4}`)
		l.want(t, "outer", "running basin● sum◔ basin[0]● basin[1]●")
		if o := l.report(t, "sum", dispatch.Succeeded, "")["sum"]; fmt.Sprint(o.Exec) != "[bin/sum 8 8]" {
			t.Errorf("what comes after is given %q", o.Exec)
		}
		if got := l.runs(t, "inner")[1].Result.String; got != `{"basin":"lower","rows":8}` {
			t.Errorf("it leaves %s", got)
		}

		// One that fails fails the attempt, and the next attempt is another run.
		if _, _, err := l.Rerun(t.Context(), run, Selection{From: []string{"basin[1]"}}, nil, "kari", false, false); err != nil {
			t.Fatal(err)
		}
		l.report(t, "load", dispatch.Failed, "")
		l.want(t, "outer", "running basin◐ sum· basin[0]● basin[1]◑")
		l = l.again(t)
		time.Sleep(time.Minute)
		l.want(t, "outer", "running basin◐ sum· basin[0]● basin[1]◌")
		if n := len(l.runs(t, "inner")); n != 4 {
			t.Errorf("%d runs were made, not 4", n)
		}

		// Stopping the outer one stops the inner one.
		if err := l.Stop(t.Context(), run, "", "kari"); err != nil {
			t.Fatal(err)
		}
		l.want(t, "inner", "stopped load■")
		l.want(t, "outer", "stopped basin■ sum■ basin[0]● basin[1]■")
		l.hands.take()

		// Stopping the inner one fails the outer one, without another attempt.
		if _, _, err := l.Rerun(t.Context(), run, Selection{From: []string{"basin[1]"}}, nil, "kari", false, false); err != nil {
			t.Fatal(err)
		}
		runs := l.runs(t, "inner")
		if err := l.Stop(t.Context(), runs[len(runs)-1], "", "kari"); err != nil {
			t.Fatal(err)
		}
		l.want(t, "outer", "failed basin✕ sum○ basin[0]● basin[1]✕")
		l.hands.take()

		// A paused one is made, and begins when it is resumed; what it waits for is told.
		if err := l.Pause(t.Context(), "inner", "ola"); err != nil {
			t.Fatal(err)
		}
		l.begin(t, "aside", day)
		runs = l.runs(t, "inner")
		last := runs[len(runs)-1]
		if waits, err := l.WaitsToBegin(t.Context(), last.ID); err != nil || last.State != "queued" || waits != "waits until inner, which ola has paused, is resumed" {
			t.Errorf("%s: %q %v", last.State, waits, err)
		}
		if _, err := l.Resume(t.Context(), "inner"); err != nil {
			t.Fatal(err)
		}
		l.want(t, "inner", "running load◔")
		l.report(t, "load", dispatch.Succeeded, `{"rows": 4}`)

		// Without waiting.
		l.begin(t, "aside", day)
		l.want(t, "aside", "succeeded tell●")
		runs = l.runs(t, "inner")
		if last = runs[len(runs)-1]; last.OuterRun.Valid || last.WindowEnd.Valid || last.State != "running" {
			t.Errorf("%+v", last)
		}
		l.report(t, "load", dispatch.Succeeded, `{"rows": 4}`)

		// One that takes too long is stopped.
		l.begin(t, "late", day)
		time.Sleep(time.Minute)
		l = l.again(t)
		time.Sleep(time.Hour)
		l.want(t, "late", "failed slow✕")
		l.want(t, "inner", "stopped load■")
	})
}

func TestWorkflowsThatStartOthersWronglyAreRefused(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		apply := func(text string) error {
			t.Helper()
			project, problems := definition.Load([]definition.File{{Path: "w.yaml", Text: text}})
			if problems != nil {
				return problems
			}
			_, _, err := l.Apply(t.Context(), project, "", "kari", false)
			return err
		}
		for _, step := range []struct{ text, want string }{
			{"workflow: a\ntasks: {x: {start: b}}", `task x of a starts the workflow "b", which does not exist`},
			{"workflow: b\ntasks: {x: {exec: [y]}}", ""},
			{"workflow: a\ntasks: {x: {start: b}}", ""},
			{"workflow: b\ntasks: {x: {start: a}}", "workflows would start each other in a circle: b starts a starts b"},
			{"workflow: b\ntasks: {x: {start: b}}", "workflows start each other in a circle: b starts b"},
			{"workflow: b\nparams: {depth: {type: number, required: true}}\ntasks: {x: {exec: [y]}}", `task x of a starts b, which requires the param "depth"; add params: {depth: VALUE}`},
			{"workflow: b\nparams: {depth: {type: number, required: true}}\ntasks: {x: {exec: [y]}}\n---\nworkflow: a\ntasks: {x: {start: {workflow: b, params: {depth: deep}}}}", `whose param "depth" cannot be that: "deep" is not of the type number`},
			{"workflow: b\nparams: {depth: {type: number, required: true}}\ntasks: {x: {exec: [y]}}\n---\nworkflow: a\ntasks: {x: {start: {workflow: b, params: {dept: 3, depth: 3}}}}", `did you mean "depth"?`},
			{"workflow: b\nparams: {depth: {type: number, required: true}}\ntasks: {x: {exec: [y]}}\n---\nworkflow: a\ntasks: {x: {start: {workflow: b, params: {depth: 3}}}}", ""},
		} {
			err := apply(step.text)
			if step.want == "" && err != nil || step.want != "" && (err == nil || !strings.Contains(err.Error(), step.want)) {
				t.Errorf("%s:\n got %v\nwant %s", step.text, err, step.want)
			}
		}
	})
}

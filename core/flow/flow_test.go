package flow

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"time"

	"wiselantern/core/definition"
)

var noon = time.Date(2026, 3, 28, 12, 0, 0, 0, time.UTC)

// plan reads a graph written as "a; b: a; c: a b". Behind a name may stand "?2"
// for two further attempts; a dependency may be "a=failed|skipped"; a task may
// end in words: any, first, 2, skip, hold, fail, may-fail, once, 3>skipped for an
// exit code, if:true, if:false or if:broken for a condition, to:a|b for a route
// that chooses a and might have chosen b, each:3 for a list of three, at:2 for two
// of them at once, stop-first, and in:scratch for a resource; that stands there as
// @scratch, with must if its closing must succeed.
func plan(t testing.TB, graph string) *Plan {
	t.Helper()
	w := &definition.Workflow{Name: "gauges"}
	for item := range strings.SplitSeq(graph, ";") {
		item, words, _ := strings.Cut(item, ",")
		if name, isResource := strings.CutPrefix(strings.TrimSpace(item), "@"); isResource {
			res := definition.Resource{Name: name}
			for word := range strings.FieldsSeq(words) {
				if outer, ok := strings.CutPrefix(word, "in:"); ok {
					res.Within = append(res.Within, outer)
				}
				res.CloseMustSucceed = res.CloseMustSucceed || word == "must"
			}
			res.Open = definition.Task{Name: res.OpenName(), Within: res.Within, Repeatable: true}
			res.Close = definition.Task{Name: res.CloseName(), Within: res.Within, Repeatable: true, MayFail: !res.CloseMustSucceed}
			w.Resources = append(w.Resources, res)
			continue
		}
		name, after, _ := strings.Cut(item, ":")
		name, times, _ := strings.Cut(strings.TrimSpace(name), "?")
		task := definition.Task{Name: name, Join: definition.Join{Kind: "all"}, Repeatable: true}
		for d := range strings.FieldsSeq(after) {
			from, expected, other := strings.Cut(d, "=")
			if !other {
				expected = "succeeded"
			}
			task.After = append(task.After, definition.Dependency{Task: from, Expect: strings.Split(expected, "|")})
		}
		for word := range strings.FieldsSeq(words) {
			switch word {
			case "any", "first":
				task.Join.Kind = word
			case "skip", "hold", "fail":
				task.Otherwise = word
			case "may-fail":
				task.MayFail = true
			case "once":
				task.Repeatable = false
			case "if:true", "if:false", "if:broken":
				task.OnlyIf = word
			case "stop-first":
				task.StopOnFirst = true
			default:
				if list, ok := strings.CutPrefix(word, "each:"); ok {
					task.ForEach = list
					continue
				}
				if n, ok := strings.CutPrefix(word, "at:"); ok {
					fmt.Sscan(n, &task.AtOnce)
					continue
				}
				if res, ok := strings.CutPrefix(word, "in:"); ok {
					task.Within = append(task.Within, res)
					continue
				}
				if to, isRoute := strings.CutPrefix(word, "to:"); isRoute {
					task.Kind = "route"
					for one := range strings.SplitSeq(to, "|") {
						task.Route = append(task.Route, definition.Rule{To: []string{one}})
					}
					routes[task.Name], _, _ = strings.Cut(to, "|")
					continue
				}
				code, outcome, mapped := strings.Cut(word, ">")
				n, err := strconv.Atoi(code)
				if err != nil {
					t.Fatalf("%q means nothing", word)
				}
				if mapped {
					task.Outcomes = append(task.Outcomes, definition.ExitCodes{From: n, To: n, Outcome: outcome})
				} else {
					task.Join = definition.Join{Kind: "count", Count: n}
				}
			}
		}
		if times != "" {
			fmt.Sscan(times, &task.Retry.Times)
			task.Retry.Pause, task.Retry.Growth, task.Retry.Cap = definition.Length(time.Second), 2, definition.Length(time.Minute)
		}
		w.Tasks = append(w.Tasks, task)
	}
	p := NewPlan(w)
	for i, task := range w.Tasks {
		if task.ForEach != "" {
			lists[p] = append(lists[p], list{i, task.ForEach})
		}
	}
	return p
}

// lists are those of the tasks of each plan that are made for each.
var lists = map[*Plan][]list{}

type list struct {
	task  int
	items string
}

// routes are what the routes of the graphs choose, by the name of the route.
var routes = map[string]string{}

// judge decides as the words of the graph say.
type judge struct{ plan *Plan }

func (j judge) OnlyIf(task int) (bool, error) {
	if word := j.plan.tasks[task].onlyIf; word != "if:broken" {
		return word == "if:true", nil
	}
	return false, errors.New("it broke")
}

func (j judge) Route(task int) ([]int, error) {
	to, ok := j.plan.Index(routes[j.plan.Name(task)])
	if !ok {
		return nil, nil
	}
	return []int{to}, nil
}

func (j judge) Items(task int) (values []string, err error) {
	for _, l := range lists[j.plan] {
		if n, err := strconv.Atoi(l.items); l.task == task && err == nil {
			for i := range n {
				values = append(values, fmt.Sprintf(`"G%02d"`, i))
			}
			return values, nil
		}
	}
	return nil, errors.New("it broke")
}

// say applies an input written as words: "open", "start a", "ok a", "fail a",
// "lost a", "park a", "due a", "exit a 3" (with exit code 3), "stop", "stop a", "release a
// succeeded", "rerun a,b"; a number behind a name is an attempt other than the
// current one.
func say(t *testing.T, p *Plan, r *Run, words string) []Effect {
	t.Helper()
	var verb, name, last string
	fmt.Sscan(words, &verb, &name, &last)
	attempt, _ := strconv.Atoi(last)
	code := attempt
	if verb == "exit" {
		attempt = 0
	}
	task, known := p.Find(r, name)
	if !known && name != "" && verb != "rerun" && verb != "choose" {
		t.Fatalf("%q names no task", words)
	}
	if attempt == 0 && known {
		attempt = r.Tasks[task].Attempts
	}
	var in Input
	switch verb {
	case "open":
		in = Opened{noon}
	case "start":
		in = Started{noon, task, attempt}
	case "park":
		in = Parked{noon, task, attempt, "waits for basins:7"}
	case "ok":
		in = Ended{At: noon, Task: task, Attempt: attempt, Outcome: AttemptSucceeded}
	case "fail":
		in = Ended{At: noon, Task: task, Attempt: attempt, Outcome: AttemptFailed, Error: "exit code 1"}
	case "exit":
		in = Ended{At: noon, Task: task, Attempt: attempt, Outcome: AttemptFailed, HasCode: true, Code: code, Error: "exit code " + last}
	case "ended":
		in = Ended{At: noon, Task: task, Attempt: attempt, Outcome: AttemptStopped, Error: "ended by SIGTERM"}
	case "lost":
		in = Ended{At: noon, Task: task, Attempt: attempt, Outcome: AttemptLost, Error: "its worker is gone"}
	case "release":
		as, err := ParseState(last)
		if err != nil {
			t.Fatal(err)
		}
		in = Release{noon, task, as, "kari"}
	case "rerun":
		again := Rerun{At: noon, By: "kari"}
		for one := range strings.SplitSeq(name, ",") {
			task, known := p.Find(r, one)
			if !known {
				t.Fatalf("%q names no task", words)
			}
			again.Tasks = append(again.Tasks, task)
		}
		in = again
	case "came":
		as, err := ParseState(last)
		if err != nil {
			t.Fatal(err)
		}
		in = Came{noon, task, as, "as gauges:6 says"}
	case "choose":
		choose := Choose{At: noon, By: "kari"}
		for one := range strings.SplitSeq(name, ",") {
			task, known := p.Find(r, one)
			if !known {
				t.Fatalf("%q names no task", words)
			}
			choose.Tasks = append(choose.Tasks, task)
		}
		in = choose
	case "overdue":
		in = TimerDue{At: noon, Task: AllTasks}
	case "due":
		in = TimerDue{noon, task, attempt}
	case "stop":
		if name == "" {
			task = AllTasks
		}
		in = Stop{noon, task, "kari"}
	default:
		t.Fatalf("%q is no input", words)
	}
	_, effects := p.Step(r, in, judge{p})
	return effects
}

// picture is the run in one line: its state and the glyph and attempts of each task.
func picture(p *Plan, r *Run) string {
	out := string(r.State)
	for i, t := range r.Tasks {
		if !p.Current(r, i) {
			continue
		}
		out += " " + p.Label(r, i) + t.State.Glyph()
		if t.Attempts > 1 {
			out += fmt.Sprint(t.Attempts)
		}
	}
	return out
}

// The rules of the state machine, to be read from left to right.
func TestRules(t *testing.T) {
	rules := []struct{ name, graph, inputs, wanted string }{
		{"a new run readies what comes after nothing", "a; b; c: a", "open", "running a◔ b◔ c·"},
		{"a worker's word makes it running", "a; b: a", "open, start a", "running a◐ b·"},
		{"success readies what comes after", "a; b: a", "open, start a, ok a", "running a● b◔"},
		{"all of a list are waited for", "a; b; c: a b", "open, ok a", "running a● b◔ c·"},
		{"and then it is ready", "a; b; c: a b", "open, ok a, ok b", "running a● b● c◔"},
		{"a run succeeds when everything has", "a; b: a", "open, ok a, ok b", "succeeded a● b●"},
		{"failure leaves unreached what comes after, and what comes after that", "a; b: a; c: b; d", "open, fail a", "running a✕ b○ c○ d◔"},
		{"the rest goes on, and then the run has failed", "a; b: a; d", "open, fail a, ok d", "failed a✕ b○ d●"},
		{"unreached at once, without waiting for the others", "a; b; c: a b", "open, fail a", "running a✕ b◔ c○"},
		{"a failure with attempts left cools", "a?1", "open, start a, fail a", "running a◑"},
		{"and is made ready when the pause is over", "a?1", "open, start a, fail a, due a", "running a◔2"},
		{"the last attempt fails the task", "a?1", "open, fail a, due a, fail a", "failed a✕2"},
		{"a success on a further attempt is a success", "a?2; b: a", "open, fail a, due a, ok a, ok b", "succeeded a●2 b●"},
		{"a lost attempt is made again at once, and does not count as a failure", "a?1", "open, start a, lost a, fail a", "running a◑2"},
		{"five lost attempts are enough", "a", "open, lost a, lost a, lost a, lost a, lost a", "failed a✕5"},
		{"a report that comes twice counts once", "a?3", "open, fail a 1, fail a 1", "running a◑"},
		{"a report of an attempt given up changes nothing", "a", "open, lost a, ok a 1", "running a◔2"},
		{"a report may overtake the word of the start", "a; b: a", "open, ok a, start a 1", "running a● b◔"},
		{"a timer that comes twice counts once", "a?3", "open, fail a, due a 1, due a 1", "running a◔2"},
		{"stopping a run ends what has not begun at once", "a; b: a", "open, stop", "stopped a■ b■"},
		{"and what runs when its worker says so", "a; b: a", "open, start a, stop", "running a◐ b■"},
		{"which stops the run", "a; b: a", "open, start a, stop, ended a", "stopped a■ b■"},
		{"a task that ends well in spite of it has succeeded", "a; b: a", "open, start a, stop, ok a", "stopped a● b■"},
		{"a task that is being stopped is not tried again", "a?3", "open, start a, stop, fail a", "stopped a■"},
		{"nor when it is lost", "a", "open, start a, stop, lost a", "stopped a■"},
		{"stopping a queued run", "a", "stop", "stopped a■"},
		{"stopping one task fails the run and leaves what comes after unreached", "a; b: a; c", "open, stop a, ok c", "failed a■ b○ c●"},
		{"stopping one that cools", "a?1", "open, fail a, stop a, due a", "failed a■"},
		{"stopping twice is stopping once", "a", "open, start a, stop, stop, ended a", "stopped a■"},

		{"a remedy runs when what it is for failed", "load; mend: load=failed", "open, fail load", "running load✕ mend◔"},
		{"and is skipped when it is not needed", "load; mend: load=failed", "open, ok load", "succeeded load● mend–"},
		{"and is unreached when what it is for was", "a; load: a; mend: load=failed", "open, fail a", "failed a✕ load○ mend○"},
		{"a path for whatever happened", "load; tidy: load=succeeded|failed|skipped|unreached|stopped", "open, fail load, ok tidy", "failed load✕ tidy●"},
		{"exactly these succeeded and that one was skipped", "a; b; c=; x: a b=skipped", "open, ok a, exit b 3", "running a● b✕ c=◔ x○"},
		{"said without a dummy task", "a; b, 3>skipped; x: a b=skipped", "open, ok a, exit b 3", "running a● b– x◔"},
		{"skips travel", "a; mend: a=failed; tell: mend; x: tell", "open, ok a", "succeeded a● mend– tell– x–"},
		{"clear takes a skip as well", "a; mend: a=failed; x: mend=succeeded|skipped", "open, ok a", "running a● mend– x◔"},
		{"a skip among bad news is bad news, in either order", "a; b; mend: a=failed; x: mend b", "open, ok a, fail b", "failed a● b✕ mend– x○"},
		{"a skip among bad news is bad news, in the other order", "a; b; mend: a=failed; x: mend b", "open, fail b, ok a", "failed a● b✕ mend– x○"},

		{"any waits for all to settle", "a; b; x: a b, any", "open, ok a", "running a● b◔ x·"},
		{"and one is enough", "a; b; x: a b, any", "open, ok a, fail b", "running a● b✕ x◔"},
		{"but none is not", "a; b; x: a b, any", "open, fail a, fail b", "failed a✕ b✕ x○"},
		{"first starts as soon as one is there", "a; b; x: a b, first", "open, ok b", "running a◔ b● x◔"},
		{"and starts once", "a; b; x: a b, first", "open, ok b, ok x, ok a", "succeeded a● b● x●"},
		{"a number starts when that many are there", "a; b; c; x: a b c, 2", "open, ok a, fail b, ok c", "running a● b✕ c● x◔"},
		{"and is unreached when so many no longer can be", "a; b; c; x: a b c, 2", "open, fail a, fail b", "running a✕ b✕ c◔ x○"},

		{"otherwise skip", "a; x: a, skip", "open, fail a", "failed a✕ x–"},
		{"otherwise fail", "a; x: a=failed, fail", "open, ok a", "failed a● x✕"},
		{"otherwise hold", "a; x: a, hold; y: x", "open, fail a", "running a✕ x◇ y·"},
		{"a held task is released as succeeded", "a; x: a, hold; y: x", "open, fail a, release x succeeded", "running a✕ x● y◔"},
		{"or as skipped", "a, may-fail; x: a, hold; y: x", "open, fail a, release x skipped", "succeeded a✕ x– y–"},
		{"or to run", "a, may-fail; x: a, hold; y: x", "open, fail a, release x ready, ok x, ok y", "succeeded a✕ x● y●"},
		{"only a held task is released", "a; x: a", "open, release a succeeded", "running a◔ x·"},
		{"a held task can be stopped", "a; x: a, hold", "open, fail a, stop x", "failed a✕ x■"},

		{"a task that may fail does not fail the run", "a, may-fail; b", "open, fail a, ok b", "succeeded a✕ b●"},
		{"what comes after it does, when it needed it", "a, may-fail; b: a", "open, fail a", "failed a✕ b○"},
		{"an exit code that means skipped", "a?3, 3>skipped", "open, exit a 3", "succeeded a–"},
		{"an exit code that means succeeded", "a?3, 3>succeeded; b: a", "open, exit a 3, ok b", "succeeded a● b●"},
		{"an exit code that is never tried again", "a?3, 64>failed", "open, exit a 64", "failed a✕"},
		{"the others are", "a?3, 64>failed", "open, exit a 65", "running a◑"},
		{"a task that may not be repeated is held when it is lost", "a?3, once", "open, start a, lost a", "running a◇"},
		{"but tried again when it failed", "a?3, once", "open, fail a", "running a◑"},

		{"a condition that holds", "a; b: a, if:true", "open, ok a", "running a● b◔"},
		{"a condition that does not skips the task, and the skip travels", "a; b: a, if:false; c: b", "open, ok a", "succeeded a● b– c–"},
		{"a condition that cannot be told fails it", "a; b: a, if:broken; c: b", "open, ok a", "failed a● b✕ c○"},
		{"a condition is asked when the join holds, not before", "a; b: a, if:false", "open", "running a◔ b·"},
		{"a route runs nothing and chooses", "r, to:x|y; x: r; y: r", "open", "running r● x◔ y–"},
		{"what only the other leads to is skipped", "r, to:x|y; x: r; y: r; z: y", "open", "running r● x◔ y– z–"},
		{"the branches meet again", "r, to:x|y; x: r; y: r; m: x=succeeded|skipped y=succeeded|skipped", "open, ok x", "running r● x● y– m◔"},
		{"or by any", "r, to:x|y; x: r; y: r; m: x y, any", "open, ok x", "running r● x● y– m◔"},
		{"a task behind a route that it does not lead to just follows", "r, to:x|y; x: r; y: r; w: r", "open", "running r● x◔ y– w◔"},
		{"a route that chooses nothing", "r, to:none|y; y: r", "open", "succeeded r● y–"},

		{"a run over its deadline has failed", "a; b: a", "open, overdue", "failed a■ b■"},
		{"when what runs has ended", "a; b: a", "open, start a, overdue", "running a◐ b■"},
		{"whatever became of it", "a; b: a", "open, start a, overdue, ok a", "failed a● b■"},
		{"a run that has ended is not over its deadline", "a", "open, ok a, overdue", "succeeded a●"},

		{"a failed task is made again in a run that had ended", "a; b: a", "open, fail a, rerun a,b", "running a◔2 b·"},
		{"and the run may then succeed", "a; b: a", "open, fail a, rerun a,b, ok a, ok b", "succeeded a●2 b●"},
		{"what is not asked for stays", "a; b: a; c: b", "open, ok a, fail b, rerun b", "running a● b◔2 c○"},
		{"and a middle task alone", "a; b: a; c: b", "open, ok a, ok b, ok c, rerun b, ok b", "succeeded a● b●2 c●"},
		{"its retries count anew", "a?1", "open, fail a, due a, fail a, rerun a, fail a", "running a◑3"},
		{"what comes after idle ones waits for them", "a; b: a", "open, ok a, ok b, rerun b,a", "running a◔2 b·"},
		{"in a run that is still going", "a; b: a; c", "open, fail a, rerun a,b", "running a◔2 b· c◔"},
		{"what is running is not made again", "a", "open, start a, rerun a", "running a◐"},
		{"a stopped run goes on", "a; b: a", "open, stop, rerun a,b, ok a, ok b", "succeeded a●2 b●"},
		{"a task parks until something outside happens", "a; b: a", "open, park a", "running a◌ b·"},
		{"and then goes on", "a; b: a", "open, park a, ok a", "running a● b◔"},
		{"a parked one fails when it takes too long", "a; b: a", "open, park a, due a", "failed a✕ b○"},
		{"or is parked again", "a?1; b: a", "open, park a, due a, due a, park a", "running a◌2 b·"},
		{"a parked one that is stopped waits for its end", "a; b: a", "open, park a, stop", "running a◌ b■"},
		{"which stops it", "a; b: a", "open, park a, stop, ended a", "stopped a■ b■"},

		{"a task made for each makes its items", "a, each:2; b: a", "open", "running a◐ b· a[0]◔ a[1]◔"},
		{"so many at once", "a, each:3 at:2; b: a", "open, start a[0], ok a[1]", "running a◐ b· a[0]◐ a[1]● a[2]◔"},
		{"and succeeds when all of them have", "a, each:2; b: a", "open, ok a[1], ok a[0]", "running a● b◔ a[0]● a[1]●"},
		{"a list of nothing is done", "a, each:0; b: a", "open", "running a● b◔"},
		{"a list that cannot be told fails it", "a, each:broken; b: a", "open", "failed a✕ b○"},
		{"an item that fails does not stop the others", "a, each:3 at:1; b: a", "open, fail a[0]", "running a◐ b· a[0]✕ a[1]◔ a[2]·"},
		{"but fails the task in the end", "a, each:2; b: a", "open, fail a[0], ok a[1]", "failed a✕ b○ a[0]✕ a[1]●"},
		{"unless it may", "a, each:2 may-fail", "open, fail a[0], ok a[1]", "succeeded a✕ a[0]✕ a[1]●"},
		{"an item is tried again by itself", "a?1, each:2", "open, fail a[0], ok a[1], due a[0], ok a[0]", "succeeded a● a[0]●2 a[1]●"},
		{"one that cools keeps its place", "a?1, each:3 at:1", "open, fail a[0]", "running a◐ a[0]◑ a[1]· a[2]·"},
		{"with stop_on_first the others are stopped", "a, each:3 at:2 stop-first; b: a", "open, start a[0], start a[1], fail a[0]", "running a◐ b· a[0]✕ a[1]◐ a[2]■"},
		{"and when they have ended it has failed", "a, each:3 at:2 stop-first; b: a", "open, start a[0], start a[1], fail a[0], ended a[1]", "failed a✕ b○ a[0]✕ a[1]■ a[2]■"},
		{"all items skipped is a skip", "a, each:2 3>skipped; b: a", "open, exit a[0] 3, exit a[1] 3", "succeeded a– b– a[0]– a[1]–"},
		{"one that was not is a success", "a, each:2 3>skipped; b: a", "open, exit a[0] 3, ok a[1]", "running a● b◔ a[0]– a[1]●"},
		{"stopping it stops its items", "a, each:3 at:1; b: a; c", "open, start a[0], stop a", "running a◐ b· c◔ a[0]◐ a[1]■ a[2]■"},
		{"and then it", "a, each:3 at:1; b: a; c", "open, start a[0], stop a, ended a[0]", "running a■ b○ c◔ a[0]■ a[1]■ a[2]■"},
		{"stopping one item lets the others go on", "a, each:2 at:1", "open, start a[0], stop a[1], ok a[0]", "failed a■ a[0]● a[1]■"},
		{"a held item does not keep the others", "a, each:2 at:1 once", "open, start a[0], lost a[0]", "running a◐ a[0]◇ a[1]◔"},
		{"and waits for its turn when it is released", "a, each:2 at:1 once", "open, start a[0], lost a[0], release a[0] ready", "running a◐ a[0]· a[1]◔"},
		{"which comes", "a, each:2 at:1 once", "open, start a[0], lost a[0], release a[0] ready, ok a[1]", "running a◐ a[0]◔2 a[1]●"},
		{"the failed items alone are made again", "a, each:3; b: a", "open, ok a[0], fail a[1], ok a[2], rerun a[1],b", "running a◐ b· a[0]● a[1]◔2 a[2]●"},
		{"and then the task has succeeded", "a, each:2; b: a", "open, ok a[0], fail a[1], rerun a[1],b, ok a[1], ok b", "succeeded a● b● a[0]● a[1]●2"},
		{"the whole is made again from its list", "a, each:2 at:1; b: a", "open, ok a[0], ok a[1], rerun a", "running a◐ b◔ a[0]◔2 a[1]·"},
		{"an item fails again while others are made", "a, each:2", "open, fail a[0], ok a[1], rerun a[0], fail a[0]", "failed a✕ a[0]✕2 a[1]●"},

		{"a resource is opened before its first user", "a; b: a, in:s; @s", "open, ok a", "running a● b· s:open◔ s:close·"},
		{"and not before it is needed", "a; b: a, in:s; @s", "open", "running a◔ b· s:open· s:close·"},
		{"when it is open the user begins", "b, in:s; c, in:s; @s", "open, ok s:open", "running b◔ c◔ s:open● s:close·"},
		{"it is closed after the last", "b, in:s; c, in:s; @s", "open, ok s:open, ok b", "running b● c◔ s:open● s:close·"},
		{"whatever became of them", "b, in:s; c, in:s; @s", "open, ok s:open, ok b, fail c", "running b● c✕ s:open● s:close◔"},
		{"and the run ends after it is closed", "b, in:s; @s", "open, ok s:open, ok b, ok s:close", "succeeded b● s:open● s:close●"},
		{"what nobody needed is not opened", "a; b: a=failed, in:s; @s", "open, ok a", "succeeded a● b– s:open– s:close–"},
		{"a user whose condition is false does not need it", "b, in:s if:false; @s", "open", "succeeded b– s:open– s:close–"},
		{"users are unreached when it cannot be opened, and what is half open is closed", "b, in:s; c: b; @s", "open, fail s:open", "running b○ c○ s:open✕ s:close◔"},
		{"and the run has failed", "b, in:s; @s", "open, fail s:open, ok s:close", "failed b○ s:open✕ s:close●"},
		{"a later user too", "a; b, in:s; c: a, in:s; @s", "open, fail s:open, ok a", "running a● b○ c○ s:open✕ s:close◔"},
		{"a close that fails does not fail the run", "b, in:s; @s", "open, ok s:open, ok b, fail s:close", "succeeded b● s:open● s:close✕"},
		{"unless it must succeed", "b, in:s; @s, must", "open, ok s:open, ok b, fail s:close", "failed b● s:open● s:close✕"},
		{"a stopped run closes what it opened", "b, in:s; @s", "open, ok s:open, start b, stop, ended b", "running b■ s:open● s:close◔"},
		{"and has then been stopped", "b, in:s; @s", "open, ok s:open, stop, ok s:close", "stopped b■ s:open● s:close●"},
		{"a closing is not stopped with the run", "b, in:s; @s", "open, ok s:open, ok b, start s:close, stop", "running b● s:open● s:close◐"},
		{"only by its name", "b, in:s; @s", "open, ok s:open, ok b, stop s:close", "succeeded b● s:open● s:close■"},
		{"stopped while it is opened, it is closed", "b, in:s; @s", "open, start s:open, stop, ended s:open", "running b■ s:open■ s:close◔"},
		{"stopped before it is opened, it is not", "a; b: a, in:s; @s", "open, stop", "stopped a■ b■ s:open– s:close–"},
		{"a resource within another is opened second", "b, in:i; @o; @i, in:o", "open", "running b· o:open◔ o:close· i:open· i:close·"},
		{"and closed first", "b, in:i; @o; @i, in:o", "open, ok o:open, ok i:open, ok b", "running b● o:open● o:close· i:open● i:close◔"},
		{"then the other", "b, in:i; @o; @i, in:o", "open, ok o:open, ok i:open, ok b, fail i:close", "running b● o:open● o:close◔ i:open● i:close✕"},
		{"an outer one that cannot be opened leaves the inner one alone", "b, in:i; @o; @i, in:o", "open, fail o:open", "running b○ o:open✕ o:close◔ i:open○ i:close–"},
		{"a user that is made again opens it again", "b, in:s; @s", "open, ok s:open, fail b, ok s:close, rerun b", "running b· s:open◔2 s:close·"},
		{"and closes it again", "b, in:s; @s", "open, ok s:open, fail b, ok s:close, rerun b, ok s:open, ok b", "running b●2 s:open●2 s:close◔2"},
		{"while it is open, it just goes on", "b, in:s; c, in:s; @s", "open, ok s:open, fail b, rerun b", "running b◔2 c◔ s:open● s:close·"},
		{"while it is being closed, nothing begins in it", "b, in:s; @s", "open, ok s:open, fail b, rerun b", "running b✕ s:open● s:close◔"},
		{"a failed close alone is made again", "b, in:s; @s, must", "open, ok s:open, ok b, fail s:close, rerun s:close, ok s:close", "succeeded b● s:open● s:close●2"},
		{"items share a resource", "b, each:2 in:s; @s", "open, ok s:open, ok b[0], ok b[1]", "running b● s:open● s:close◔ b[0]● b[1]●"},
		{"items made again open it again", "b, each:2 in:s; @s", "open, ok s:open, ok b[0], fail b[1], ok s:close, rerun b[1], ok s:open", "running b◐ s:open●2 s:close· b[0]● b[1]◔2"},
		{"and if that fails, they are unreached", "b, each:2 in:s; @s", "open, ok s:open, ok b[0], fail b[1], ok s:close, rerun b[1], fail s:open, ok s:close", "failed b○ s:open✕2 s:close●2 b[0]● b[1]○"},

		{"a task waits for the run of the window before", "a; b: a a@previous", "open, came a@previous waiting, ok a", "running a● b· a@previous◌"},
		{"and goes on with it", "a; b: a a@previous", "open, ok a, came a@previous succeeded", "running a● b◔ a@previous●"},
		{"or is unreached, and only then has the run failed", "a; b: a@previous", "open, ok a, came a@previous failed", "failed a● b○ a@previous✕"},
		{"a remedy for what failed before", "b: b@previous=failed", "open, came b@previous failed, ok b", "succeeded b● b@previous✕"},
		{"stopping does not wait for it", "b: a@previous; a", "open, came a@previous waiting, stop", "stopped b■ a■ a@previous■"},
		{"made again, it is looked up again", "b: a@previous; a", "open, ok a, came a@previous failed, rerun b", "running b· a● a@previous·"},

		{"of a run, only what is chosen is made", "a; b: a; c: b", "choose b, open", "running a● b◔ c–"},
		{"and the run ends with it", "a; b: a; c: b", "choose b, open, ok b", "succeeded a● b● c–"},
		{"what comes before is taken as it is expected", "load; mend: load=failed; tell: mend", "choose mend, open", "running load✕ mend◔ tell–"},
		{"also behind a route", "r, to:x|y; x: r; y: r", "choose y, open", "running r● x– y◔"},
		{"two that follow each other", "a; b: a; c: b; d: c", "choose b,c, open, ok b", "running a● b● c◔ d–"},
		{"a resource is opened for what is chosen", "a; b: a, in:s; c, in:q; @s; @q", "choose b, open", "running a● b· c– s:open◔ s:close· q:open– q:close–"},
		{"a run that is going cannot be chosen from", "a; b: a", "open, choose b", "running a◔ b·"},

		{"nothing happens to a run that has ended", "a", "open, ok a, stop, fail a, open", "succeeded a●"},
	}
	for _, rule := range rules {
		t.Run(rule.name, func(t *testing.T) {
			p := plan(t, rule.graph)
			r := New(p, 1)
			for words := range strings.SplitSeq(rule.inputs, ", ") {
				say(t, p, r, words)
			}
			if got := picture(p, r); got != rule.wanted {
				t.Errorf("%s, after %s:\n got %s\nwant %s", rule.graph, rule.inputs, got, rule.wanted)
			}
		})
	}
}

func TestReasonsNameTheTaskThatCausedThem(t *testing.T) {
	p := plan(t, "load; index: load; alarm: index; report: load")
	r := New(p, 1)
	for _, words := range []string{"open", "start load", "fail load"} {
		say(t, p, r, words)
	}
	for name, wanted := range map[string]string{
		"load": "exit code 1", "index": "it comes after load, which failed", "alarm": "it comes after index, which was not reached",
	} {
		i, _ := p.Index(name)
		if got := r.Tasks[i].Reason; got != wanted {
			t.Errorf("%s: %q, want %q", name, got, wanted)
		}
	}
}

func TestEffects(t *testing.T) {
	p := plan(t, "a?1; b: a")
	r := New(p, 1)
	for _, step := range []struct{ words, wanted string }{
		{"open", "[{0 1}]"},
		{"start a", "[]"},
		{"fail a", "[{0 1 2026-03-28 12:00:01 +0000 UTC}]"},
		{"due a", "[{0 2}]"},
		{"ok a", "[{1 1}]"},
		{"start b", "[]"},
		{"stop", "[{1 1}]"},
		{"ended b", "[{}]"},
	} {
		if got := fmt.Sprint(say(t, p, r, step.words)); got != step.wanted {
			t.Errorf("%s: %s, want %s", step.words, got, step.wanted)
		}
	}
}

func TestPausesGrowToTheirCapAndSpread(t *testing.T) {
	retry := definition.Retry{Pause: definition.Length(10 * time.Second), Growth: 3, Cap: definition.Length(time.Minute)}
	for i, wanted := range []time.Duration{10, 30, 60, 60} {
		if got := pauseAfter(retry, i+1, 7); got != wanted*time.Second {
			t.Errorf("after attempt %d: %v, want %v", i+1, got, wanted*time.Second)
		}
	}
	retry.Spread = 0.2
	low, high := time.Hour, time.Duration(0)
	for seed := range uint64(1000) {
		got := pauseAfter(retry, 1, seed)
		low, high = min(low, got), max(high, got)
	}
	if low < 8*time.Second || low > 8100*time.Millisecond || high > 12*time.Second || high < 11900*time.Millisecond {
		t.Errorf("a spread of 20%% around 10s reaches from %v to %v", low, high)
	}
}

// Random graphs under random outcomes, with reports doubled and late: every run
// ends, nothing is left between states, a run restored half-way goes on the
// same, and the same inputs give the same bytes.
func TestEveryRunEndsAndCanBeRepeated(t *testing.T) {
	for seed := range uint64(150) {
		random := rand.New(rand.NewPCG(seed, 0))
		var graph []string
		n := 1 + random.IntN(30)
		for i := range n {
			item := fmt.Sprintf("t%d?%d:", i, random.IntN(3))
			after := 0
			for j := range i {
				if random.IntN(4) == 0 {
					after++
					item += fmt.Sprintf(" t%d=%s", j, []string{"succeeded", "succeeded", "failed", "succeeded|skipped", "failed|unreached|stopped"}[random.IntN(5)])
				}
			}
			item += ", " + []string{"", "any", "first", strconv.Itoa(1 + random.IntN(max(1, after)))}[random.IntN(4)]
			item += " " + []string{"", "", "skip", "hold", "fail"}[random.IntN(5)] + []string{"", " may-fail", " once", " 3>skipped", " 2>failed"}[random.IntN(5)]
			item += []string{"", "", "", " in:s", " in:i", " in:i in:s"}[random.IntN(6)]
			item += []string{"", "", "", " each:0", " each:3 at:1", " each:5 at:2", " each:4 stop-first", " each:broken"}[random.IntN(8)]
			graph = append(graph, item)
		}
		graph = append(graph, "last, in:i", "@s"+[]string{"", ", must"}[random.IntN(2)], "@i, in:s")
		p := plan(t, strings.Join(graph, ";"))
		first, firstSeen := play(t, p, seed, false)
		second, secondSeen := play(t, p, seed, true)
		if firstSeen != secondSeen {
			t.Fatalf("seed %d: the same inputs gave\n%s\nand\n%s", seed, firstSeen, secondSeen)
		}
		if !first.State.Settled() || first.State != second.State {
			t.Fatalf("seed %d: the run is %s and %s:\n%s\n%s\n%s", seed, first.State, second.State, strings.Join(graph, "\n"), picture(p, first), picture(p, second))
		}
		for i, task := range first.Tasks {
			if !task.State.Settled() || task.Stopping {
				t.Fatalf("seed %d: task %s is left %s", seed, p.Label(first, i), task.State)
			}
		}
	}
}

// play runs the plan to its end with whatever the seed says; with restored, the
// run is taken apart and restored from its record before every step.
func play(t *testing.T, p *Plan, seed uint64, restored bool) (*Run, string) {
	random := rand.New(rand.NewPCG(seed, 1))
	r := New(p, seed)
	todo := []Input{Opened{noon}}
	if random.IntN(5) == 0 {
		p.Step(r, Choose{noon, []int{random.IntN(len(p.tasks) - 4), random.IntN(len(p.tasks) - 4)}, "kari"}, judge{p})
	}
	var seen strings.Builder
	stopAt := random.IntN(200)
	for count := 0; len(todo) > 0; count++ {
		if count > 10_000 {
			t.Fatalf("seed %d: the run does not end", seed)
		}
		i := random.IntN(len(todo))
		in := todo[i]
		if count == stopAt {
			in = Stop{noon, AllTasks, "kari"}
		} else if random.IntN(5) > 0 { // else it comes again
			todo = append(todo[:i:i], todo[i+1:]...)
		}
		if restored {
			text, err := json.Marshal(r)
			if err != nil {
				t.Fatal(err)
			}
			var recorded Run
			if err := json.Unmarshal(text, &recorded); err != nil {
				t.Fatal(err)
			}
			r = Restore(p, recorded)
		}
		changes, effects := p.Step(r, in, judge{p})
		fmt.Fprintln(&seen, changes, effects)
		keepsItsPromises(t, p, r, seed)
		for _, c := range changes {
			if c.To == Held {
				todo = append(todo, Release{noon, c.Task, []State{Succeeded, Skipped, Ready}[random.IntN(3)], "kari"})
			}
		}
		if again := random.IntN(200); r.State.Settled() && len(todo) == 0 && again < 100 && count < 5000 {
			todo = append(todo, Rerun{noon, []int{again % len(r.Tasks), again / 2 % len(r.Tasks)}, "kari"})
		}
		for _, effect := range effects {
			switch e := effect.(type) {
			case Dispatch:
				outcome := []Outcome{AttemptSucceeded, AttemptSucceeded, AttemptSucceeded, AttemptFailed, AttemptLost}[random.IntN(5)]
				todo = append(todo, []Input{Started{noon, e.Task, e.Attempt}, Parked{noon, e.Task, e.Attempt, "it waits"}}[random.IntN(2)], Ended{At: noon, Task: e.Task, Attempt: e.Attempt, Outcome: outcome, HasCode: true, Code: random.IntN(4), Error: "it broke"})
			case Arm:
				todo = append(todo, TimerDue{e.At, e.Task, e.Attempt})
			}
		}
	}
	return r, seen.String()
}

// keepsItsPromises looks at a run between two steps: no more items go at once than
// may, nothing is made outside of the resources that it is within, and nothing
// that was opened stays open behind a run.
func keepsItsPromises(t *testing.T, p *Plan, r *Run, seed uint64) {
	t.Helper()
	going := map[int]int{}
	for i, task := range r.Tasks {
		switch task.State {
		case Ready, Running, Waiting, Cooling:
		default:
			continue
		}
		node := p.Node(r, i)
		if i != node {
			going[node]++
		}
		for _, res := range p.tasks[node].within {
			if open, close := r.Tasks[p.resources[res].open].State, r.Tasks[p.resources[res].close].State; open != Succeeded || close != Idle {
				t.Fatalf("seed %d: %s is %s, and the resource %s that it is within is %s and its closing %s", seed, p.Label(r, i), task.State, p.resources[res].name, open, close)
			}
		}
	}
	for node, n := range going {
		if most := p.tasks[node].atOnce; most > 0 && n > most {
			t.Fatalf("seed %d: %d items of %s go at once, and %d may", seed, n, p.Name(node), most)
		}
	}
	for _, res := range p.resources {
		open, close := r.Tasks[res.open], r.Tasks[res.close]
		if r.State.Settled() && open.Attempts > open.Before && close.Attempts == close.Before && close.State != Stopped && close.State != Unreached {
			t.Fatalf("seed %d: the run has ended, and %s was opened and not closed", seed, res.name)
		}
	}
}

// One input costs the same in a run of 1,000 tasks and in one of 100,000.
func BenchmarkStep(b *testing.B) {
	for _, n := range []int{1_000, 100_000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			w := &definition.Workflow{}
			for i := range n {
				task := definition.Task{Name: fmt.Sprint("t", i), Join: definition.Join{Kind: "all"}}
				if i >= 50 {
					task.After = []definition.Dependency{{Task: fmt.Sprint("t", i-50), Expect: []string{"succeeded"}}}
				}
				w.Tasks = append(w.Tasks, task)
			}
			p := NewPlan(w)
			var r *Run
			next := n
			for b.Loop() {
				if next == n {
					b.StopTimer()
					r, next = New(p, 1), 0
					p.Step(r, Opened{noon}, nil)
					b.StartTimer()
				}
				p.Step(r, Ended{At: noon, Task: next, Attempt: 1, Outcome: AttemptSucceeded}, nil)
				next++
			}
		})
	}
}

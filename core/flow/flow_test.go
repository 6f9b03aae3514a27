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
// exit code, if:true, if:false or if:broken for a condition, and to:a|b for a
// route that chooses a and might have chosen b.
func plan(t testing.TB, graph string) *Plan {
	t.Helper()
	w := &definition.Workflow{Name: "gauges"}
	for item := range strings.SplitSeq(graph, ";") {
		item, words, _ := strings.Cut(item, ",")
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
			default:
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
	return NewPlan(w)
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

// say applies an input written as words: "open", "start a", "ok a", "fail a",
// "lost a", "due a", "exit a 3" (with exit code 3), "stop", "stop a", "release a
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
	task, known := p.Index(name)
	if !known && name != "" && verb != "rerun" {
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
			task, known := p.Index(one)
			if !known {
				t.Fatalf("%q names no task", words)
			}
			again.Tasks = append(again.Tasks, task)
		}
		in = again
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
		out += " " + p.Name(i) + t.State.Glyph()
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
	for seed := range uint64(300) {
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
			graph = append(graph, item)
		}
		p := plan(t, strings.Join(graph, ";"))
		first, firstSeen := play(t, p, seed, false)
		second, secondSeen := play(t, p, seed, true)
		if firstSeen != secondSeen {
			t.Fatalf("seed %d: the same inputs gave\n%s\nand\n%s", seed, firstSeen, secondSeen)
		}
		if !first.State.Settled() || first.State != second.State {
			t.Fatalf("seed %d: the run is %s and %s", seed, first.State, second.State)
		}
		for i, task := range first.Tasks {
			if !task.State.Settled() || task.Stopping {
				t.Fatalf("seed %d: task %s is left %s", seed, p.Name(i), task.State)
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
		for _, c := range changes {
			if c.To == Held {
				todo = append(todo, Release{noon, c.Task, []State{Succeeded, Skipped, Ready}[random.IntN(3)], "kari"})
			}
		}
		if again := random.IntN(200); r.State.Settled() && len(todo) == 0 && again < 100 && count < 5000 {
			todo = append(todo, Rerun{noon, []int{again % p.Len(), again / 2 % p.Len()}, "kari"})
		}
		for _, effect := range effects {
			switch e := effect.(type) {
			case Dispatch:
				outcome := []Outcome{AttemptSucceeded, AttemptSucceeded, AttemptSucceeded, AttemptFailed, AttemptLost}[random.IntN(5)]
				todo = append(todo, Started{noon, e.Task, e.Attempt}, Ended{At: noon, Task: e.Task, Attempt: e.Attempt, Outcome: outcome, HasCode: true, Code: random.IntN(4), Error: "it broke"})
			case Arm:
				todo = append(todo, TimerDue{e.At, e.Task, e.Attempt})
			}
		}
	}
	return r, seen.String()
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

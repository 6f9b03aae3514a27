package definition

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"
)

var update = flag.Bool("update", false, "write what is said now as what is wanted")

// Each file in testdata/mistakes has a mistake, or several; the .want beside it
// is exactly what is said of it.
func TestEveryMistakeIsToldWithItsPlace(t *testing.T) {
	files, err := filepath.Glob("testdata/mistakes/*.yaml")
	if err != nil || len(files) < 30 {
		t.Fatalf("found %d files: %v", len(files), err)
	}
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".yaml"), func(t *testing.T) {
			text, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			_, problems := Parse(filepath.Base(file), string(text), standard)
			got := problems.Error() + "\n"
			want := strings.TrimSuffix(file, ".yaml") + ".want"
			if *update {
				if err := os.WriteFile(want, []byte(got), 0o644); err != nil {
					t.Fatal(err)
				}
			}
			wanted, err := os.ReadFile(want)
			if err != nil {
				t.Fatal(err)
			}
			if problems == nil || got != string(wanted) {
				t.Errorf("got\n%s\nwant\n%s", got, wanted)
			}
		})
	}
}

const whole = `
workflow: gauge-hourly
about: Collect the readings.
owner: hydrology
labels: [gauges, hourly]
params:
  basin: {type: choice, of: [upper, lower], default: upper}
  stations: {type: list, of: text, default: [G01, G02]}
starts:
  - {every: 1h, zone: Europe/Oslo}
  - cron: "15 6 * * mon-fri"
if_running: alongside
defaults:
  timeout: 10m
  retry: {times: 2, pause: 20s, growth: 3, cap: 5m, spread: 20%}
  env: {RIVER: /srv/river, MODE: fast}
tasks:
  collect:
    exec: [bin/collect, --all, 010]
  check/range:
    after: collect
    env: {MODE: slow}
    timeout: 90s
    retry: {times: 5}
    shell: |
      awk -f range.awk
      echo ${MODE}
  load:
    after: [collect, check/range]
    exec: [bin/load]
`

func TestAWholeFile(t *testing.T) {
	workflows, problems := Parse("w.yaml", whole, standard)
	if problems != nil {
		t.Fatal(problems)
	}
	w := workflows[0]
	load, _ := w.Task("check/range")
	want := Task{Name: "check/range", After: []Dependency{{"collect", []string{"succeeded"}}}, Join: Join{Kind: "all"}, Repeatable: true, Kind: "shell", Shell: "awk -f range.awk\necho ${MODE}\n",
		Env: map[string]string{"RIVER": "/srv/river", "MODE": "slow"}, Timeout: Length(90 * time.Second),
		Retry: Retry{Times: 5, Pause: Length(20 * time.Second), Growth: 3, Cap: Length(5 * time.Minute), Spread: 0.2}}
	if !reflect.DeepEqual(load, want) {
		t.Errorf("got  %+v\nwant %+v", load, want)
	}
	if got := w.Tasks[0].Exec; !reflect.DeepEqual(got, []string{"bin/collect", "--all", "010"}) {
		t.Errorf("words are kept as they were written, but got %q", got)
	}
	if w.Starts[0].String() != "every 1h, Europe/Oslo" || w.Starts[1].String() != "cron 15 6 * * mon-fri, UTC" {
		t.Errorf("starts: %v", w.Starts)
	}
	if w.IfRunning != Alongside || w.Owner != "hydrology" || len(w.Labels) != 2 {
		t.Errorf("%+v", w)
	}
}

// A spread moves all starts of a workflow by the same, up to that length, and those
// of workflows with other names by other lengths.
func TestASpreadIsTheSameEachTime(t *testing.T) {
	s := Start{Every: Length(time.Hour), Zone: "UTC", Spread: Length(10 * time.Minute)}
	seen := map[time.Duration]bool{}
	for i := range 50 {
		rule, err := s.Rule(fmt.Sprint("w", i))
		if err != nil {
			t.Fatal(err)
		}
		at := time.Date(2026, 3, 28, 6, 0, 0, 0, time.UTC)
		first, _ := rule.After(at)
		second, _ := rule.After(first)
		late := first.Sub(at)
		if late < 0 || late > 10*time.Minute || late%time.Second != 0 || second.Sub(first) != time.Hour {
			t.Fatalf("due at %s and %s", first, second)
		}
		if w, ok := rule.Window(first); !ok || !w.End.Equal(at) {
			t.Fatalf("the window is %+v", w)
		}
		seen[late] = true
	}
	if len(seen) < 30 {
		t.Errorf("fifty workflows are spread over %d moments only", len(seen))
	}
}

// What tasks inherit is not for one that starts another workflow: that has its own.
func TestATaskThatStartsAWorkflowInheritsNothing(t *testing.T) {
	workflows, problems := Parse("w.yaml", "workflow: w\ndefaults: {timeout: 2m, retry: {times: 3}, env: {A: b}}\ntasks: {a: {start: v}, b: {timeout: 3h, start: v}}", standard)
	if problems != nil {
		t.Fatal(problems)
	}
	a, b := workflows[0].Tasks[0], workflows[0].Tasks[1]
	if a.Timeout != 0 || a.Retry.Times != 0 || len(a.Env) != 0 || b.Timeout.Duration() != 3*time.Hour {
		t.Errorf("%+v\n%+v", a, b)
	}
}

func TestDifferencesAreToldAKeyAtATime(t *testing.T) {
	read := func(text string) *Workflow {
		workflows, problems := Parse("w.yaml", text, standard)
		if problems != nil {
			t.Fatal(problems)
		}
		return workflows[0]
	}
	before := read(whole)
	after := read(strings.NewReplacer("owner: hydrology\n", "", "default: upper", "default: lower", "times: 5", "times: 6", "  load:", "  store:",
		"every: 1h", "every: 2h", "MODE: slow", "MODE: quick", "  retry: {times: 2", "  retry: {times: 3").Replace(whole))
	var told []string
	for _, d := range Differences(before, after) {
		told = append(told, strings.TrimSpace(d.Part+" "+d.Key)+": "+d.Before+" > "+d.After)
	}
	want := `workflow owner: hydrology >
workflow start 1 every: 1h > 2h
param basin default: upper > lower
task check/range env.MODE: slow > quick
task check/range retry.times: 5 > 6
task collect retry.times: 2 > 3
task load: gone >
task store:  > new`
	if got := strings.Join(told, "\n"); strings.NewReplacer(" \n", "\n").Replace(got) != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	if same := Differences(before, read(whole)); same != nil {
		t.Errorf("the same differs: %v", same)
	}
}

const environments = `
project: rivers
defaults: {env: {RIVER: /srv/river, MODE: fast}}
setup: {shell: touch ready, timeout: 1m}
environments:
  dev:
    params: {basin: lower, depth: 3}
    env: {RIVER: /tmp/river}
    capacity: {warehouse: 1}
  prod:
    server: https://lantern.example:7640
    params: {depth: 9}
    capacity: {warehouse: 4}
`

func TestEnvironments(t *testing.T) {
	files := []File{{Path: ProjectFile, Text: environments}, {Path: "workflows/w.yaml", Text: "workflow: w\nparams:\n  basin: {type: choice, of: [upper, lower], default: upper}\n  depth: {type: whole, required: true}\ntasks: {a: {exec: [x]}}"}}
	for name, want := range map[string]string{
		"":     `upper <nil> true /srv/river fast "" map[]`,
		"dev":  `lower 3 false /tmp/river fast "" map[warehouse:1]`,
		"prod": `upper 9 false /srv/river fast "https://lantern.example:7640" map[warehouse:4]`,
	} {
		project, problems := LoadFor(files, name)
		if problems != nil || project.Unused != nil {
			t.Fatal(problems, project.Unused)
		}
		w := project.Workflows[0]
		env := w.Tasks[0].Env
		got := fmt.Sprintf("%v %v %v %s %s %q %v", w.Params[0].Default, w.Params[1].Default, w.Params[1].Required, env["RIVER"], env["MODE"], project.Server, project.Capacity)
		if got != want || w.Setup == nil || w.Setup.Timeout.Duration() != time.Minute {
			t.Errorf("%s: got %s, want %s; %v", name, got, want, w.Setup)
		}
	}
	for name, c := range map[string]struct{ file, environment, want string }{
		"an unknown one":       {environments, "prd", `there is no environment "prd"`},
		"none there":           {"project: rivers", "prod", "add environments to lantern.yaml"},
		"a value out of range": {strings.Replace(environments, "basin: lower", "basin: middle", 1), "", `lantern.yaml:7:21: environment "dev", param "basin" of workflow "w": "middle" is not one of: upper, lower`},
		"a name that is none":  {strings.Replace(environments, "  dev:", "  Dev:", 1), "", `"Dev" cannot be the name of an environment`},
		"no address":           {strings.Replace(environments, "https://lantern.example", "lantern.example", 1), "", "which is no address"},
		"units":                {strings.Replace(environments, "warehouse: 4", "warehouse: many", 1), "", `write a whole number from 0`},
		"a setup of nothing":   {strings.Replace(environments, "shell: touch ready, ", "", 1), "", "setup does nothing"},
		"a setup of two":       {strings.Replace(environments, "shell: touch ready", "shell: touch ready, exec: [x]", 1), "", "setup has both exec and shell"},
		"a setup of a run":     {strings.Replace(environments, "shell: touch ready", `exec: [x, "${run.id}"]`, 1), "", "setup holds ${"},
		"an unknown key":       {strings.Replace(environments, "capacity: {warehouse: 1}", "capacities: {warehouse: 1}", 1), "", `did you mean "capacity"?`},
	} {
		files[0].Text = c.file
		if _, problems := LoadFor(files, c.environment); problems == nil || !strings.Contains(problems.Error(), c.want) {
			t.Errorf("%s: got %v, want %s", name, problems, c.want)
		}
	}
	files[0].Text = strings.Replace(environments, "depth: 9", "dept: 9", 1)
	project, problems := Load(files)
	if problems != nil || len(project.Unused) != 1 || !strings.Contains(project.Unused.Error(), `did you mean "depth"?`) {
		t.Errorf("a param that no workflow has: %v %v", problems, project.Unused)
	}
}

// A workflow is the same after it went through the records, and however its
// file is written.
func TestAWorkflowIsItsMeaning(t *testing.T) {
	workflows, _ := Parse("w.yaml", whole, standard)
	text, err := json.Marshal(workflows[0])
	if err != nil {
		t.Fatal(err)
	}
	var back Workflow
	if err := json.Unmarshal(text, &back); err != nil {
		t.Fatal(err)
	}
	if back.Hash() != workflows[0].Hash() {
		t.Error("it has another hash after it went through JSON")
	}
	flow := `{"workflow": "w", "tasks": {"a": {"exec": ["x", "y"]}}}`
	block := "# the same\nworkflow: w\ntasks:\n  a:\n    exec:\n    - x\n    - 'y'\n"
	one, problems1 := Parse("w.json", flow, standard)
	two, problems2 := Parse("w.yaml", block, standard)
	if problems1 != nil || problems2 != nil || one[0].Hash() != two[0].Hash() {
		t.Errorf("JSON and YAML of the same differ: %v %v", problems1, problems2)
	}
	two[0].Tasks[0].Exec[1] = "z"
	if one[0].Hash() == two[0].Hash() {
		t.Error("another meaning has the same hash")
	}
}

func TestAProjectGivesItsDefaultsToItsWorkflows(t *testing.T) {
	project, problems := Load([]File{
		{Path: "workflows/b.yaml", Text: "workflow: b\ndefaults: {timeout: 1m}\ntasks: {a: {exec: [x]}}"},
		{Path: "workflows/a.yaml", Text: "workflow: a\ntasks: {a: {exec: [x], env: {MODE: own}}}\n---\nworkflow: c\ntasks: {a: {exec: [x]}}"},
		{Path: "lantern.yaml", Text: "project: rivers\ndefaults: {timeout: 5m, env: {MODE: all, RIVER: r}}"},
	})
	if problems != nil {
		t.Fatal(problems)
	}
	var got []string
	for _, w := range project.Workflows {
		got = append(got, w.Name+" "+w.Tasks[0].Timeout.String()+" "+w.Tasks[0].Env["MODE"]+w.Tasks[0].Env["RIVER"])
	}
	if s := strings.Join(got, "; "); s != "a 5m ownr; b 1m allr; c 5m allr" || project.Name != "rivers" {
		t.Errorf("%s of %s", s, project.Name)
	}
	_, problems = Load([]File{{Path: "workflows/a.yaml", Text: "workflow: a\ntasks: {a: {exec: [x]}}"}, {Path: "workflows/b.yaml", Text: "workflow: a\ntasks: {a: {exec: [x]}}"}})
	if problems == nil || !strings.Contains(problems.Error(), `the workflow "a" stands in workflows/a.yaml too`) {
		t.Errorf("two workflows of one name: %v", problems)
	}
}

func TestFilesThatWouldStallTheServiceAreRefused(t *testing.T) {
	bomb := "a: &a [x,x,x,x,x,x,x,x,x,x]\n"
	for c := 'b'; c <= 'i'; c++ {
		p := string(c - 1)
		bomb += string(c) + ": &" + string(c) + " [" + strings.TrimSuffix(strings.Repeat("*"+p+",", 10), ",") + "]\n"
	}
	for name, c := range map[string]struct{ text, wanted string }{
		"aliases that explode": {bomb, "more than 200000 values"},
		"a large file":         {strings.Repeat("# gauge\n", 7<<20), "over the limit of 1048576"},
		"deep nesting":         {"workflow: " + strings.Repeat("[", 200) + strings.Repeat("]", 200), "nested more than 64 deep"},
		"no UTF-8":             {"workflow: w\nabout: \"\xff\xfe\"\n", "w.yaml:2:1: the file is not UTF-8"},
	} {
		began := time.Now()
		_, problems := Parse("w.yaml", c.text, standard)
		if problems == nil || !strings.Contains(problems.Error(), c.wanted) {
			t.Errorf("%s: %v", name, problems)
		}
		if took := time.Since(began); took > 5*time.Second {
			t.Errorf("%s took %v", name, took)
		}
	}
}

func TestLengths(t *testing.T) {
	for text, want := range map[string]string{"90s": "1m30s", "1h30m": "1h30m", "2d": "2d", "1w": "7d", "250ms": "250ms", "1.5h": "1h30m", "0s": "0s", "36h": "1d12h"} {
		got, err := ParseLength(text)
		if err != nil || got.String() != want {
			t.Errorf("%s: got %s, %v", text, got, err)
		}
		if again, err := ParseLength(got.String()); err != nil || again != got {
			t.Errorf("%s does not come back from %s", text, got)
		}
	}
	for _, text := range []string{"", "20", "h", "-1s", "1y", "1h 30m", "1..2s", "999999999w"} {
		if got, err := ParseLength(text); err == nil {
			t.Errorf("%q was read as %s", text, got)
		}
	}
}

func TestParamsAreCheckedAgainstTheirTypes(t *testing.T) {
	workflows, problems := Parse("w.yaml", `
workflow: w
params:
  basin: {type: choice, of: [upper, lower], default: upper}
  level: {type: number, min: 0, max: 10}
  count: {type: whole, default: 3}
  fast: {type: bool, default: false}
  code: {type: text, pattern: "G[0-9]+", min: 3}
  day: {type: date}
  at: {type: moment}
  pause: {type: length}
  stations: {type: list, of: text, max: 3}
  more: {type: object}
  who: {type: text, required: true}
tasks: {a: {exec: [x]}}
`, standard)
	if problems != nil {
		t.Fatal(problems)
	}
	w := workflows[0]
	good := Values{"who": "kari", "level": 2.5, "code": "G01", "day": "2026-03-28", "at": "2026-03-28T06:00:00Z", "pause": "90s", "stations": []any{"G01"}, "more": map[string]any{"a": 1.0}}
	filled, err := Fill(w.Params, good)
	if err != nil {
		t.Fatal(err)
	}
	if filled["basin"] != "upper" || filled["count"] != 3.0 || filled["fast"] != false || filled["level"] != 2.5 {
		t.Errorf("%v", filled)
	}
	for name, c := range map[string]struct {
		value  any
		wanted string
	}{
		"basin":    {"middle", `"middle" is not one of: upper, lower`},
		"level":    {11.0, "11 is over the most, 10"},
		"count":    {1.5, "1.5 is not of the type whole"},
		"fast":     {"yes", "is not of the type bool"},
		"code":     {"X1", "does not match the pattern"},
		"day":      {"28.3.", "is not a date"},
		"at":       {"today", "is not a moment"},
		"pause":    {"90", "is not a length of time"},
		"stations": {[]any{"a", "b", "c", "d"}, "over the most"},
		"more":     {"{}", "is not of the type object"},
		"basim":    {"upper", `did you mean "basin"?`},
	} {
		_, err := Fill(w.Params, Values{"who": "kari", name: c.value})
		if err == nil || !strings.Contains(err.Error(), c.wanted) {
			t.Errorf("%s=%v: got %v, want it to say %q", name, c.value, err, c.wanted)
		}
	}
	if _, err := Fill(w.Params, Values{}); err == nil || !strings.Contains(err.Error(), `param "who" is required`) {
		t.Errorf("a missing value: %v", err)
	}
	for text, want := range map[string]string{"stations=G01,G02": `["G01","G02"]`, `stations=["G,1"]`: `["G,1"]`, "level=2.50": "2.5", "fast=true": "true", `more={"a": [1]}`: `{"a":[1]}`, "who=a=b": "a=b"} {
		name, value, _ := strings.Cut(text, "=")
		p, _ := w.Param(name)
		got, err := p.Parse(value)
		if err != nil || (Values{}).Text(got) != want {
			t.Errorf("-p %s: got %s, %v", text, (Values{}).Text(got), err)
		}
	}
}

// The example of the reference is what the reference says it is: without mistake,
// and with every key.
func TestTheExampleOfTheReference(t *testing.T) {
	text, err := os.ReadFile("../../docs/reference/definition.md")
	if err != nil {
		t.Fatal(err)
	}
	_, example, _ := strings.Cut(string(text), "## An example with everything")
	_, example, _ = strings.Cut(example, "```yaml\n")
	example, _, _ = strings.Cut(example, "```")
	if _, problems := Parse("definition.md", example, standard); problems != nil {
		t.Fatal(problems)
	}
	for _, key := range []string{"workflow", "about", "owner", "labels", "params", "starts", "every", "cron", "zone", "if_running", "at_most", "priority", "takes", "deadline", "defaults", "tasks", "after", "join", "otherwise",
		"only_if", "exec", "shell", "route", "env", "timeout", "retry", "times", "pause", "growth", "cap", "spread", "outcomes", "may_fail", "repeatable", "queue", "type", "of", "min", "default",
		"resources", "open", "close", "within", "close_must_succeed", "for_each", "at_once", "stop_on_first", "start", "wait", "window", "result",
		"rrule", "at", "between", "on", "from", "until", "except", "delay", "spread", "covers", "length", "ends", "missed", "watermarks", "initial", "set",
		"event", "source", "subject", "where", "settle", "collect", "file", "check", "min_size", "count", "dataset", "expect", "workflow", "task", "until", "http", "method", "headers", "body", "status", "holds", "query", "with",
		"connection", "all", "any", "approve", "ask", "show", "no", "on_timeout", "updates", "fresh_within"} {
		if !strings.Contains(example, key+":") {
			t.Errorf("the example does not have %s", key)
		}
	}
}

func TestNearest(t *testing.T) {
	known := []string{"after", "about", "env", "exec", "retry", "shell", "timeout"}
	for name, want := range map[string]string{"aftr": "after", "Shell": "shell", "publish": "", "time-out": "timeout", "xxxx": "", "tiemout": "timeout", "evn": "env"} {
		if got := Nearest(name, known); got != want {
			t.Errorf("%s: got %q, want %q", name, got, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(whole)
	f.Add("workflow: w\ntasks: {a: {after: b, exec: [x]}, b: {after: a, shell: y}}")
	f.Add("a: &a [*a]")
	f.Add("? [a]\n: b\n<<: {c: d}")
	f.Fuzz(func(t *testing.T, text string) {
		workflows, problems := Parse("w.yaml", text, standard)
		for _, p := range problems {
			if lines := strings.Count(text, "\n") + strings.Count(text, "\r") + 2; p.Message == "" || p.Line > lines {
				t.Fatalf("%+v", p)
			}
		}
		if problems == nil {
			for _, w := range workflows {
				if w.Name == "" || len(w.Tasks) == 0 || findCircle(w.Tasks) != nil {
					t.Fatalf("accepted %+v", w)
				}
			}
		}
	})
}

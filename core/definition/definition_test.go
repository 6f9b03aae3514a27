package definition

import (
	"encoding/json"
	"flag"
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
		{"workflows/b.yaml", "workflow: b\ndefaults: {timeout: 1m}\ntasks: {a: {exec: [x]}}"},
		{"workflows/a.yaml", "workflow: a\ntasks: {a: {exec: [x], env: {MODE: own}}}\n---\nworkflow: c\ntasks: {a: {exec: [x]}}"},
		{"lantern.yaml", "project: rivers\ndefaults: {timeout: 5m, env: {MODE: all, RIVER: r}}"},
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
	_, problems = Load([]File{{"workflows/a.yaml", "workflow: a\ntasks: {a: {exec: [x]}}"}, {"workflows/b.yaml", "workflow: a\ntasks: {a: {exec: [x]}}"}})
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
		"only_if", "exec", "shell", "route", "env", "timeout", "retry", "times", "pause", "growth", "cap", "spread", "outcomes", "may_fail", "repeatable", "type", "of", "min", "default"} {
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

package definition

import (
	"reflect"
	"strings"
	"testing"
	"time"
)

func TestAWholeFileOfWhatIsOutside(t *testing.T) {
	project, problems := Load([]File{{Path: "w.yaml", Text: `
workflow: w
params: {basin: {type: text, default: upper}}
starts:
  - {every: 1h}
  - {event: storm.*, source: /office, where: event.data.level > 2, settle: 5s, params: {basin: "${event.subject}"}}
  - {file: [in/*.csv, in/**/*.gz], settle: 3s, min_size: 1.5kB, collect: 10m}
  - {dataset: {all: [readings/raw, permits]}}
  - {workflow: v, expect: settled}
only_if: new("readings/raw") || event.type == "storm.warning"
tasks:
  both: {wait: {all: {scan: {file: "in/${params.basin}.csv", count: 2}, table: {query: "SELECT 1 WHERE x > ?", with: ["${window.end}"], connection: store, check: 10s, growth: 2, cap: 1m}}}, timeout: 1h, on_timeout: skip}
  ready: {after: both, wait: {http: "http://h/${params.basin}", status: [200, 300..302], holds: answer.status == 200}}
  ask: {after: ready, approve: {ask: "Go on with ${params.basin}?", from: [duty, head], no: fail}, timeout: 2h, on_timeout: no}
  load: {after: ask, exec: [x], updates: {readings/clean: {fresh_within: 2h}, index: }}
  until: {wait: {until: "${window.end + duration('2h')}"}}
  v: {wait: {workflow: v, task: quality/*, expect: clear, window: covering}}
---
workflow: v
starts: [{every: 10m}]
tasks: {quality/range: {exec: [x]}}`}})
	if problems != nil {
		t.Fatal(problems)
	}
	w := project.Workflows[1]
	if len(w.Starts) != 1 || len(w.Outside) != 4 {
		t.Fatalf("%d starts by time and %d by something outside", len(w.Starts), len(w.Outside))
	}
	file := w.Outside[1]
	want := Outside{Awaited: Awaited{Kind: AwaitFile, Of: []string{"in/*.csv", "in/**/*.gz"}, Settle: Length(3 * time.Second), Check: Length(time.Minute), MinSize: 1500}, Collect: Length(10 * time.Minute)}
	if !reflect.DeepEqual(file, want) {
		t.Errorf("got  %+v\nwant %+v", file, want)
	}
	var words []string
	for _, o := range w.Outside {
		words = append(words, o.String())
	}
	if got := strings.Join(words, "\n"); got != "event storm.* from /office, where event.data.level > 2, when nothing came for 5s\nfile in/*.csv, in/**/*.gz, collected over 10m\nall of the data sets readings/raw, permits\nafter v (succeeded or failed or skipped or unreached or stopped)" {
		t.Errorf("in words:\n%s", got)
	}
	ready, _ := w.Task("ready")
	if !reflect.DeepEqual(ready.Wait.For[0].Status, []ExitCodes{{From: 200, To: 200}, {From: 300, To: 302}}) || ready.Timeout != 0 || ready.Retry.Times != 0 {
		t.Errorf("%+v", ready)
	}
	both, _ := w.Task("both")
	if got := both.Wait.Words(); got != "2 files in/${params.basin}.csv and a query of store" {
		t.Errorf("it waits for %s", got)
	}
	if _, err := w.Compile(); err != nil {
		t.Error(err)
	}
	var links []string
	for _, l := range w.Links() {
		links = append(links, l.From+" "+l.Kind+" "+l.To)
	}
	for _, want := range []string{"event storm.* starts workflow w", "data set permits starts workflow w", "workflow v starts workflow w", "data set readings/raw asks workflow w", "workflow v waits workflow w", "workflow w updates data set readings/clean"} {
		if !strings.Contains(strings.Join(links, "\n"), want) {
			t.Errorf("no %q in %v", want, links)
		}
	}
}

func TestWorkflowsThatLeanOnEachOtherWrongly(t *testing.T) {
	for want, text := range map[string]string{
		"workflows would start each other for ever: w starts data set raw starts w": "workflow: w\nstarts: [{dataset: raw}]\ntasks: {a: {exec: [x], updates: [raw]}}",
		"v starts w starts v": "workflow: w\nstarts: [{workflow: v}]\ntasks: {a: {exec: [x]}}\n---\nworkflow: v\nstarts: [{workflow: w}]\ntasks: {a: {exec: [x]}}",
		"workflows would wait for each other for ever: v waits for w waits for v": "workflow: w\ntasks: {a: {wait: {workflow: v}}}\n---\nworkflow: v\ntasks: {a: {wait: {workflow: w}}}",
		"v waits for w waits for data set raw waits for v":                        "workflow: w\ntasks: {a: {wait: {dataset: raw}}}\n---\nworkflow: v\ntasks: {a: {wait: {workflow: w}}, b: {exec: [x], updates: [raw]}}",
		`task "a" waits for v, which has no task "lod"`:                           "workflow: w\ntasks: {a: {wait: {workflow: v, task: lod}}}\n---\nworkflow: v\ntasks: {load: {exec: [x]}}",
		`which has no task "quality/*"`:                                           "workflow: w\ntasks: {a: {wait: {workflow: v, task: quality/*}}}\n---\nworkflow: v\ntasks: {load: {exec: [x]}}",
		"which has no time rule":                                                  "workflow: w\ntasks: {a: {wait: {workflow: v, window: covering}}}\n---\nworkflow: v\ntasks: {load: {exec: [x]}}",
	} {
		if _, problems := Load([]File{{Path: "w.yaml", Text: text}}); problems == nil || !strings.Contains(problems.Error(), want) {
			t.Errorf("%s: %v", want, problems)
		}
	}
	// What its own run before has made may be awaited, and a wait for what starts it is no circle.
	for _, text := range []string{
		"workflow: w\ntasks: {a: {wait: {dataset: raw}}, b: {after: a, exec: [x], updates: [raw]}}",
		"workflow: w\nstarts: [{dataset: raw}]\ntasks: {a: {wait: {workflow: v}}}\n---\nworkflow: v\ntasks: {a: {exec: [x], updates: [raw]}}",
	} {
		if _, problems := Load([]File{{Path: "w.yaml", Text: text}}); problems != nil {
			t.Errorf("%s: %v", text, problems)
		}
	}
}

// What changed in a start, a wait or a data set is told a key at a time.
func TestDifferencesOfWhatIsOutside(t *testing.T) {
	read := func(text string) *Workflow {
		project, problems := Load([]File{{Path: "w.yaml", Text: text}})
		if problems != nil {
			t.Fatal(problems)
		}
		return project.Workflows[0]
	}
	before := read("workflow: w\nstarts: [{event: storm, where: event.data.n > 2}, {every: 1h}]\ntasks: {a: {wait: {file: in/*.csv}}, b: {exec: [x], updates: raw}}")
	after := read("workflow: w\nstarts: [{event: storm, where: event.data.n > 3}, {every: 2h}, {file: x}]\ntasks: {a: {wait: {file: inbox/*.csv, count: 2}}, b: {exec: [x], updates: {raw: {fresh_within: 1h}}}}")
	var got []string
	for _, d := range Differences(before, after) {
		got = append(got, d.Part+" "+d.Key+": "+d.Before+" > "+d.After)
	}
	for _, want := range []string{"workflow start 1 every: 1h > 2h", "task a wait.for 1 count: 1 > 2", `task a wait.for 1 of: ["in/*.csv"] > ["inbox/*.csv"]`, "task b updates 1 fresh_within:  > 1h", "workflow outside: ["} {
		if !strings.Contains(strings.Join(got, "\n"), want) {
			t.Errorf("no %q in\n%s", want, strings.Join(got, "\n"))
		}
	}
}

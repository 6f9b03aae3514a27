package api_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"wiselantern/client"
	"wiselantern/internal/testkit"
)

const watched = `
workflow: gauges
owner: hydrology
labels: [upper]
due_by: 45m
starts: [{every: 1h}]
tasks:
  collect: {shell: 'echo "{\"rows\": 36}" > "$LANTERN_RESULT"'}
  load: {after: collect, shell: 'for i in 1 2 3; do echo "line $i"; done; echo "WARN slow"; echo "ERROR no space left on device" >&2; exit 4'}
---
workflow: roads
owner: roads
if_running: alongside
tasks: {count: {shell: 'sleep 20'}}
`

func TestTheWatchTellsWhatIsGoingOn(t *testing.T) {
	s := testkit.Start(t)
	empty, err := s.Watch(testkit.Context(t), client.WatchChoice{})
	if err != nil || empty.Counts["all"] != 0 || len(empty.Strip.Succeeded) != 144 || empty.Failing == nil || empty.Held == nil {
		t.Fatalf("%+v, %v", empty, err)
	}
	s.Apply(t, watched)
	s.End(t, s.Begin(t, "gauges").ID)
	running := s.Begin(t, "roads")
	s.Until(t, running.ID, func(r client.Run) bool { return testkit.Task(t, r, "count").State == "running" })
	w, err := s.Watch(testkit.Context(t), client.WatchChoice{})
	if err != nil {
		t.Fatal(err)
	}
	if w.Running.Total != 1 || w.Running.Runs[0].ID != "roads:1" || w.Running.Runs[0].Counts["running"] != 1 {
		t.Errorf("running: %+v", w.Running)
	}
	if len(w.Failing) != 1 || w.Failing[0].Workflow != "gauges" || w.Failing[0].Task != "load" || w.Failing[0].Runs != 1 || w.Failing[0].Hint == nil || w.Failing[0].Hint.Kind != "disk" {
		t.Errorf("failing: %+v", w.Failing)
	}
	if w.Numbers.Day.Failed != 1 || w.Numbers.Week.Failed != 1 || w.Numbers.DayBefore != (client.PeriodNumbers{}) || w.Numbers.Day.Used.CPU <= 0 {
		t.Errorf("numbers: %+v", w.Numbers)
	}
	if len(w.Strip.Marks) != 1 || w.Strip.Marks[0].Run != "gauges:1" || w.Strip.Marks[0].State != "failed" {
		t.Errorf("strip: %+v", w.Strip.Marks)
	}
	if len(w.Next) != 1 || w.Next[0].Workflow != "gauges" || !slices.Equal(w.Choices.Owners, []string{"hydrology", "roads"}) || !slices.Equal(w.Choices.Labels, []string{"upper"}) {
		t.Errorf("next: %+v, choices: %+v", w.Next, w.Choices)
	}
	for choice, want := range map[string][3]int{ // running, failing, failed of the day
		"hydrology": {0, 1, 1}, "roads": {1, 0, 0}, "nobody": {0, 0, 0},
	} {
		w, err := s.Watch(testkit.Context(t), client.WatchChoice{Owner: choice})
		if got := [3]int{w.Running.Total, len(w.Failing), w.Numbers.Day.Failed}; err != nil || got != want {
			t.Errorf("of %s: %v, %v", choice, got, err)
		}
	}
	if w, err := s.Watch(testkit.Context(t), client.WatchChoice{Workflows: []string{"roads"}}); err != nil || w.Counts["all"] != 1 {
		t.Errorf("%+v, %v", w.Counts, err)
	}
	workers, err := s.Workers(testkit.Context(t))
	if err != nil || len(workers.Workers) != 1 || len(workers.Workers[0].Does) != 1 || workers.Workers[0].Does[0].Task != "count" || workers.Workers[0].Slots != 8 || workers.Workers[0].Total == 0 {
		t.Errorf("%+v, %v", workers, err)
	}
	forecast, err := s.Forecast(testkit.Context(t), "gauges:1")
	if err != nil || !slices.Equal(forecast.Critical, []string{"collect", "load"}) || forecast.Run != nil {
		t.Errorf("%+v, %v", forecast, err)
	}
	run, err := s.Run(testkit.Context(t), "gauges:1")
	if err != nil || run.DueBy == nil || run.DueBy.Sub(run.Created) < 44*time.Minute || run.Used == nil || testkit.Task(t, run, "load").Attempts[0].CPU <= 0 {
		t.Errorf("%+v, %v", run, err)
	}
}

func TestRunsAreFoundByWhatTheyAre(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, "workflow: w\nparams: {basin: {type: text, default: upper}, n: {type: number, default: 2}, dry: {type: bool, default: false}}\ntasks: {a: {shell: 'test $LANTERN_PARAM_BASIN != sea || { echo \"No 100% of it\" >&2; exit 1; }'}, b: {after: a, shell: 'true'}}\n")
	hour := func(h int) *client.Window {
		start := time.Date(2026, 3, 28, h, 0, 0, 0, time.UTC)
		return &client.Window{Start: start, End: start.Add(time.Hour)}
	}
	for i, params := range []map[string]string{{}, {"basin": "sea"}, {"n": "2.5", "dry": "true"}} {
		run, err := s.Client.Start(testkit.Context(t), "w", client.StartRequest{Texts: params, Window: hour(6 + i)})
		if err != nil {
			t.Fatal(err)
		}
		s.End(t, run.ID)
	}
	for _, c := range []struct {
		filter client.RunsFilter
		want   string
	}{
		{client.RunsFilter{}, "3 2 1"},
		{client.RunsFilter{Cause: "schedule"}, ""},
		{client.RunsFilter{Cause: "person", States: []string{"failed"}}, "2"},
		{client.RunsFilter{From: "2026-03-28T07:00:00Z"}, "3 2"},
		{client.RunsFilter{Until: "2026-03-28T07:00:00Z"}, "1"},
		{client.RunsFilter{From: "2026-03-29"}, ""},
		{client.RunsFilter{Param: "basin=sea"}, "2"},
		{client.RunsFilter{Param: "n=2.5"}, "3"},
		{client.RunsFilter{Param: "n=2"}, "2 1"},
		{client.RunsFilter{Param: "dry=true"}, "3"},
		{client.RunsFilter{Param: "nothing=1"}, ""},
		{client.RunsFilter{Error: "no 100% OF"}, "2"},
		{client.RunsFilter{Error: "no 1% of"}, ""},
		{client.RunsFilter{Version: 2}, ""},
		{client.RunsFilter{EndedFrom: time.Now().UTC().Add(-time.Hour).Format(time.RFC3339)}, "3 2 1"},
		{client.RunsFilter{EndedUntil: time.Now().UTC().Add(-time.Hour).Format(time.RFC3339)}, ""},
	} {
		for _, workflow := range []string{"w", ""} {
			c.filter.Workflow = workflow
			page, err := s.Runs(testkit.Context(t), c.filter)
			var got []string
			for _, r := range page.Runs {
				got = append(got, fmt.Sprint(r.Number))
			}
			if err != nil || strings.Join(got, " ") != c.want {
				t.Errorf("%+v: %v instead of %s, %v", c.filter, got, c.want, err)
			}
		}
	}
	for _, query := range []string{"param=basin", "from=soon", "cause=chance", "ended_until=2026-13-01"} {
		if status, kind, answer := ask(t, s, "GET", "/api/runs?"+query, "", "Authorization: Bearer "+s.Token); status != 422 || kind != "application/problem+json" {
			t.Errorf("%s: %d %s", query, status, answer)
		}
	}
	_, _, text := ask(t, s, "GET", "/api/runs?ribbon=true", "", "Authorization: Bearer "+s.Token)
	var page client.Runs
	if err := json.Unmarshal([]byte(text), &page); err != nil || page.Runs[1].Ribbon.States != "✕○" || page.Runs[0].Ribbon.States != "●●" || len(page.Runs[0].Ribbon.Seconds) != 2 {
		t.Errorf("%s, %v", text, err)
	}
}

func TestALogIsSearchedByTheService(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, watched)
	s.End(t, s.Begin(t, "gauges").ID)
	found := func(query string) string {
		_, _, text := ask(t, s, "GET", "/api/runs/gauges:1/log?task=load&"+query, "", "Authorization: Bearer "+s.Token)
		var page client.Lines
		if err := json.Unmarshal([]byte(text), &page); err != nil {
			t.Fatal(err)
		}
		var numbers []string
		for _, l := range page.Lines {
			numbers = append(numbers, fmt.Sprint(l.Number))
		}
		if page.Next != nil {
			numbers = append(numbers, fmt.Sprintf("next %d", *page.Next))
		}
		return strings.Join(numbers, " ")
	}
	lines := s.Log(t, "gauges:1", "load", 1)
	last := strings.Count(lines, "\n") - 1
	if got := found("find=LINE"); len(strings.Fields(got)) != 3 || strings.Contains(got, "next") { // where is not told: the two streams are read beside each other
		t.Errorf("%s of\n%s", got, lines)
	}
	if got := found("find=line&limit=2"); !strings.Contains(got, "next") {
		t.Errorf("%s", got)
	}
	if got := len(strings.Fields(found("level=warning"))); got != 2 {
		t.Errorf("%d lines are a warning or worse", got)
	}
	if got := len(strings.Fields(found("level=error"))); got != 1 {
		t.Errorf("%d lines are an error", got)
	}
	if got := found("find=nothing+like+it"); got != "" || last != 4 {
		t.Errorf("%q, %d", got, last)
	}
}

func TestEachPersonHasTheirOwnView(t *testing.T) {
	s := testkit.Start(t)
	put := func(person, body string) {
		if status, _, answer := ask(t, s, "PUT", "/api/views/watch", fmt.Sprintf(`{"body": %q}`, body), "Authorization: Bearer "+s.Token, "Lantern-Person: "+person); status != 200 {
			t.Fatalf("%d %s", status, answer)
		}
	}
	get := func(person string) string {
		_, _, text := ask(t, s, "GET", "/api/views/watch", "", "Authorization: Bearer "+s.Token, "Lantern-Person: "+person)
		var view client.View
		if err := json.Unmarshal([]byte(text), &view); err != nil {
			t.Fatal(err)
		}
		return view.Body
	}
	put("kari", "late~held")
	put("ola", "running")
	put("kari", "late")
	if got := [3]string{get("kari"), get("ola"), get("nils")}; got != [3]string{"late", "running", ""} {
		t.Errorf("%v", got)
	}
	put("kari", "")
	if got := get("kari"); got != "" {
		t.Errorf("%q", got)
	}
	if status, _, _ := ask(t, s, "GET", "/api/views/else", "", "Authorization: Bearer "+s.Token); status != 422 {
		t.Errorf("a page that is none: %d", status)
	}
}

func TestWhatWasGivenHidesSecrets(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, "workflow: w\nparams: {key: {type: text, secret: true, required: true}, basin: {type: text, default: upper}}\ntasks:\n  a: {exec: [echo, \"-k${params.key}\", \"${params.basin}\"], env: {K: \"${params.key}\"}}\n  b: {after: a, exec: [echo, \"${task('a').result.rows}\"]}\n")
	run := s.End(t, s.Begin(t, "w", "key=much-kept").ID)
	given, err := s.Given(testkit.Context(t), run.ID, "a")
	if err != nil || !slices.Equal(given.Exec, []string{"echo", "-k(secret)", "upper"}) || given.Env["K"] != "(secret)" || given.Env["LANTERN_PARAM_KEY"] != "(secret)" || given.Env["LANTERN_PARAM_BASIN"] != "upper" {
		t.Errorf("%+v, %v", given, err)
	}
	if _, err := s.Given(testkit.Context(t), run.ID, "b"); err == nil || !strings.Contains(err.Error(), "what it is given cannot be told") {
		t.Errorf("%v", err)
	}
	if _, err := s.Given(testkit.Context(t), run.ID, "c"); err == nil || !strings.Contains(err.Error(), `there is no task "c"`) {
		t.Errorf("%v", err)
	}
}

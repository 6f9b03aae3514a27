package api_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"wiselantern/client"
	"wiselantern/internal/testkit"
)

func TestItemsArePagedAndFiltered(t *testing.T) {
	s := testkit.Start(t)
	ctx := testkit.Context(t)
	s.Apply(t, "workflow: w\ntasks:\n  each:\n    for_each: [0, 1, 2, 3, 4, 5, 6, 7, 8, 9]\n    shell: 'test $LANTERN_ITEM -lt 7 || exit 3; echo \"{\\\"n\\\": $LANTERN_ITEM}\" > \"$LANTERN_RESULT\"'\n  after: {after: {each: settled}, shell: 'true'}\n")
	run := s.End(t, s.Begin(t, "w").ID)
	if run.State != "failed" || len(run.Tasks) != 12 || run.Tasks[0].Items.Counts["failed"] != 3 || run.Tasks[1].Name != "each[0]" || run.Tasks[1].ItemOf != "each" || run.Tasks[11].Name != "after" {
		t.Fatalf("%+v", run.Tasks)
	}
	if got := run.Tasks[7]; got.Item != 6.0 || got.Result["n"] != 6.0 || run.Counts["succeeded"] != 1 || run.Counts["failed"] != 1 {
		t.Errorf("%+v %v", got, run.Counts)
	}
	folded, err := s.RunFolded(ctx, run.ID)
	if err != nil || len(folded.Tasks) != 2 || folded.Tasks[0].Items.Count != 10 {
		t.Errorf("%+v %v", folded.Tasks, err)
	}
	for _, c := range []struct {
		filter client.ItemsFilter
		want   string
		next   int
	}{
		{client.ItemsFilter{Limit: 4}, "each[0] each[1] each[2] each[3]", 4},
		{client.ItemsFilter{From: 8, Limit: 4}, "each[8] each[9]", 0},
		{client.ItemsFilter{States: []string{"failed"}}, "each[7] each[8] each[9]", 0},
		{client.ItemsFilter{States: []string{"failed", "succeeded"}, From: 5, Limit: 3}, "each[5] each[6] each[7]", 8},
		{client.ItemsFilter{States: []string{"held"}}, "", 0},
	} {
		page, err := s.Items(ctx, run.ID, "each", c.filter)
		var names []string
		for _, item := range page.Items {
			names = append(names, item.Name)
		}
		next := 0
		if page.Next != nil {
			next = *page.Next
		}
		if err != nil || strings.Join(names, " ") != c.want || next != c.next {
			t.Errorf("%+v: got %v, next %d, %v", c.filter, names, next, err)
		}
	}
	changes, err := s.Changes(ctx, run.ID)
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	for _, c := range changes {
		seen[c.Task] = true
	}
	if !seen["each[9]"] || !seen["each"] || !seen["after"] {
		t.Errorf("the changes are of %v", seen)
	}
}

func TestProblemsWithTimeSayWhatToDo(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, "workflow: w\nstarts: [{every: 1h}]\nwatermarks: {last: {type: whole, initial: 0}}\ntasks: {a: {for_each: [1], shell: 'true'}}")
	s.End(t, s.Begin(t, "w").ID)
	bearer := "Authorization: Bearer " + s.Token
	for _, c := range []struct {
		method, path, body string
		status             int
		wanted             string
	}{
		{"GET", "/api/runs/w:1/items?task=b", "", 404, `there is no task \"b\"`},
		{"GET", "/api/runs/w:1/items", "", 422, "task"},
		{"GET", "/api/runs/w:1/log?task=a[1]", "", 404, `there is no task \"a[1]\"`},
		{"GET", "/api/upcoming?for=1y", "", 422, "write a length of time up to 400d"},
		{"GET", "/api/upcoming?workflow=v", "", 404, "there is no workflow"},
		{"GET", "/api/upcoming/days?zone=Mars", "", 422, "there is no zone"},
		{"GET", "/api/upcoming.ics", "", 401, "lantern upcoming --feed"},
		{"GET", "/api/workflows/v/decisions", "", 404, "there is no workflow"},
		{"POST", "/api/backfills", `{"workflow": "w", "from": "2026-01-02", "to": "2026-01-01"}`, 409, "swap the two"},
		{"POST", "/api/backfills", `{"workflow": "v", "from": "2026-01-02", "to": "2026-01-01"}`, 404, "there is no workflow"},
		{"POST", "/api/backfills", `{"workflow": "w", "from": "2026-01-01", "to": "2026-01-01", "only": "some"}`, 422, "expected"},
		{"POST", "/api/backfills", `{"workflow": "w", "from": "2026-01-01", "to": "2026-01-01", "merge": "soon"}`, 409, "soon"},
		{"POST", "/api/backfills", `{"workflow": "w", "from": "1990-01-01", "to": "2025-12-31"}`, 409, "over the limit of 300000; make it shorter"},
		{"POST", "/api/backfills", `{"workflow": "w", "from": "2026-01-01", "to": "2026-01-01", "texts": {"x": "y"}}`, 409, `\"x\"`},
		{"GET", "/api/backfills/4", "", 404, "lantern backfills lists them"},
		{"POST", "/api/backfills/4/direct", `{"word": "pause"}`, 404, "lantern backfills lists them"},
		{"POST", "/api/workflows/w/watermarks/lost", `{"text": "1"}`, 404, `did you mean \"last\"?`},
		{"POST", "/api/workflows/w/watermarks/last", `{"text": "many"}`, 409, "is not of the type whole"},
		{"POST", "/api/workflows/w/runs", `{"only": ["b"]}`, 404, `there is no task \"b\"`},
		{"POST", "/api/workflows/w/runs", `{"results": {"a": {}}}`, 409, "which is not left out"},
		{"POST", "/api/runs/w:1/rerun", `{"only": ["a[4]"]}`, 404, `there is no task \"a[4]\"`},
	} {
		if c.wanted == "over the limit of 300000; make it shorter" && testing.Short() {
			continue
		}
		status, contentType, answer := ask(t, s, c.method, c.path, c.body, bearer)
		if status != c.status || contentType != "application/problem+json" || !strings.Contains(answer, c.wanted) {
			t.Errorf("%s %s %s: %d %s %s, want %d and %q", c.method, c.path, c.body, status, contentType, answer, c.status, c.wanted)
		}
	}
}

// A backfill through the whole service: its runs, what its windows rest on, and
// how it is directed.
func TestABackfillThroughTheService(t *testing.T) {
	s := testkit.Start(t)
	ctx := testkit.Context(t)
	s.Apply(t, "workflow: w\nif_running: alongside\nstarts: [{every: 1h}]\ntasks: {a: {shell: 'sleep 0.05; case $LANTERN_WINDOW_START in *T03*) exit 5;; esac'}}")
	day := client.BackfillRequest{Workflow: "w", From: "2026-03-28", To: "2026-03-28", AtOnce: 3}
	preview := day
	preview.DryRun = true
	b, err := s.Backfill(ctx, preview)
	if err != nil || b.State != "preview" || b.Runs != 24 || b.Windows["missing"] != 24 || b.Number != 0 || b.Each != 0 {
		t.Fatalf("%+v %v", b, err)
	}
	if b, err = s.Backfill(ctx, day); err != nil || b.Number != 1 || b.Runs != 24 {
		t.Fatalf("%+v %v", b, err)
	}
	if b, err = s.DirectBackfill(ctx, 1, "pause"); err != nil || b.State != "paused" || b.Reason == "" {
		t.Fatalf("%+v %v", b, err)
	}
	end := func(state string) {
		t.Helper()
		for until := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
			if b, err = s.ShowBackfill(ctx, 1); err != nil || b.State == state {
				break
			}
			if time.Now().After(until) {
				t.Fatalf("it is %+v, not %s", b, state)
			}
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if _, err := s.DirectBackfill(ctx, 1, "resume"); err != nil {
		t.Fatal(err)
	}
	end("failed")
	if b.Counts["succeeded"] != 23 || b.Counts["failed"] != 1 || b.Ended == nil || b.PerHour <= 0 {
		t.Errorf("%+v", b)
	}
	failed, err := s.BackfillWindows(ctx, 1, "failed", 0)
	if err != nil || len(failed.Windows) != 1 || failed.Windows[0].Place != 3 || failed.Windows[0].Run != "w:4" {
		t.Fatalf("%+v %v", failed, err)
	}
	run, err := s.Run(ctx, "w:4")
	if err != nil || run.Cause != "backfill" || !strings.HasPrefix(run.CausedBy, "backfill 1 of ") || run.Newer != "" {
		t.Errorf("%+v %v", run, err)
	}
	// Mended and tried again, the window rests on another run.
	s.Apply(t, "workflow: w\nif_running: alongside\nstarts: [{every: 1h}]\ntasks: {a: {shell: 'true'}}")
	if _, err := s.DirectBackfill(ctx, 1, "retry"); err != nil {
		t.Fatal(err)
	}
	end("succeeded")
	if run, err = s.Run(ctx, "w:4"); err != nil || run.Newer != "w:25" {
		t.Errorf("%+v %v", run, err)
	}
	preview.Only = "all"
	preview.Merge = "6h"
	if b, err = s.Backfill(ctx, preview); err != nil || b.Runs != 4 || b.Chosen != 24 || b.Windows["succeeded"] != 24 || b.Each <= 0 || b.Left <= 0 {
		t.Errorf("%+v %v", b, err)
	}
	list, err := s.Backfills(ctx, "w")
	if text, _ := json.Marshal(list); err != nil || len(list) != 1 || !strings.Contains(string(text), `"state":"succeeded"`) {
		t.Errorf("%s %v", text, err)
	}
}

func TestUpcomingThroughTheService(t *testing.T) {
	s := testkit.Start(t)
	ctx := testkit.Context(t)
	s.Apply(t, "workflow: often\nstarts: [{every: 1m}]\ntasks: {a: {shell: 'true'}}")
	s.Apply(t, "workflow: daily\nstarts: [{cron: '0 3 * * *', covers: day, delay: 15m}]\ntasks: {a: {shell: 'true'}}")
	if _, err := s.Pause(ctx, "often"); err != nil {
		t.Fatal(err)
	}
	page, err := s.Upcoming(ctx, "", "2d", 3)
	if err != nil || !page.More || len(page.Upcoming) != 5 {
		t.Fatalf("%+v %v", page, err)
	}
	count := map[string]int{}
	for i, u := range page.Upcoming {
		count[u.Workflow]++
		if u.Paused != (u.Workflow == "often") || i > 0 && u.Due.Before(page.Upcoming[i-1].Due) {
			t.Errorf("%+v", u)
		}
		if u.Workflow == "daily" && (u.Due.UTC().Format("15:04") != "03:15" || u.Window.End.UTC().Format("15:04") != "00:00") {
			t.Errorf("%+v", u)
		}
	}
	if fmt.Sprint(count) != "map[daily:2 often:3]" {
		t.Errorf("%v", count)
	}
	status, _, answer := ask(t, s, "GET", "/api/upcoming/days?days=3", "", "Authorization: Bearer "+s.Token)
	var days client.UpcomingDays
	if err := json.Unmarshal([]byte(answer), &days); err != nil || status != 200 || len(days.Dates) != 3 || len(days.Workflows) != 2 {
		t.Fatalf("%d %s %v", status, answer, err)
	}
	if daily, often := days.Workflows[0].Days, days.Workflows[1].Days; daily[1].Count != 1 || len(daily[1].First) != 1 || often[1].Count != 1440 || len(often[1].First) != 3 || often[2].Last.UTC().Format("15:04") != "23:59" {
		t.Errorf("%s", answer)
	}
}

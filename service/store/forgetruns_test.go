package store

import (
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
)

func number(n int64) sql.NullInt64 { return sql.NullInt64{Int64: n, Valid: true} }

// By age, by number, and never the newest, nor what something that goes on rests on.
func TestWhichRunsNeedNotBeKept(t *testing.T) {
	s, err := Open(t.Context(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	now := time.Now()
	s.Writer.Begin()
	var ids []int64
	for _, name := range []string{"gauges", "masts"} {
		workflow := s.Writer.AddWorkflow(Workflow{Name: name, Version: 1, Covered: "{}", DecidedUntil: At(now)})
		for n := range 6 { // they ended six to one hours ago
			row := Run{Workflow: workflow, Number: n + 1, Version: 1, State: "succeeded", Cause: "person", Params: "{}", Watermarks: "{}", Created: At(now)}
			row.ID = s.Writer.AddRun(row, 1)
			row.Ended = At(now.Add(-time.Duration(6-n) * time.Hour))
			s.Writer.SetRun(row)
			s.Writer.AddAttempt(row.ID, 0, 1, At(now))
			ids = append(ids, row.ID)
		}
	}
	// The first run of masts has been started by one that goes on; the second is waited for.
	outer := Run{Workflow: 1, Number: 7, Version: 1, State: "running", Cause: "person", Params: "{}", Watermarks: "{}", Created: At(now), OuterRun: number(ids[6])}
	outer.ID = s.Writer.AddRun(outer, 1)
	s.Writer.AddAttempt(outer.ID, 0, 1, At(now))
	s.Writer.ParkAttempt(outer.ID, 0, 1, At(now), ids[7])
	if err := s.Writer.Commit(); err != nil {
		t.Fatal(err)
	}
	for _, one := range []struct {
		what string
		keep Keep
		want []int64
	}{
		{"nothing said", Keep{}, nil},
		{"by age", Keep{Before: At(now.Add(-210 * time.Minute))}, []int64{ids[0], ids[1], ids[2], ids[8]}},
		{"by age, but the newest five", Keep{Before: At(now.Add(-210 * time.Minute)), Newest: 5}, []int64{ids[0]}},
		{"by number", Keep{Most: 4}, []int64{ids[0], ids[1]}},
		{"by number or age", Keep{Most: 5, Before: At(now.Add(-270 * time.Minute))}, []int64{ids[0], ids[1]}},
		{"none, of any age", Keep{Before: At(now.Add(time.Hour)), Newest: 100}, nil},
	} {
		got, err := s.Forgettable(t.Context(), one.keep, 100)
		if err != nil || !slices.Equal(got, one.want) {
			t.Errorf("%s: %v, not %v, %v", one.what, got, one.want, err)
		}
	}
	if some, err := s.Forgettable(t.Context(), Keep{Before: At(now)}, 2); err != nil || len(some) != 2 {
		t.Errorf("%v, %v", some, err)
	}
	s.Writer.Begin()
	s.Writer.ForgetRuns(ids[:1], At(now))
	if err := s.Writer.Commit(); err != nil {
		t.Fatal(err)
	}
	if again, err := s.Forgettable(t.Context(), Keep{Most: 4}, 100); err != nil || !slices.Equal(again, ids[1:2]) {
		t.Errorf("%v, %v", again, err)
	}
	attempts, err := s.Attempts(t.Context(), ids[0])
	tasks, err2 := s.Tasks(t.Context(), ids[0])
	if err != nil || err2 != nil || len(attempts) != 0 || len(tasks) != 1 {
		t.Errorf("%d attempts and %d tasks are left, %v, %v", len(attempts), len(tasks), err, err2)
	}
}

// Old events go, but for what somebody still needs of them; space comes back.
func TestWhichEventsNeedNotBeKept(t *testing.T) {
	s, err := Open(t.Context(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	now, old := time.Now(), time.Now().Add(-100*time.Hour)
	s.Writer.Begin()
	workflow := s.Writer.AddWorkflow(Workflow{Name: "gauges", Version: 1, Covered: "{}", DecidedUntil: At(now)})
	event := func(name string, at time.Time) int64 {
		id, _ := s.Writer.AddEvent(Event{Source: "/office", Event: name, Type: "storm", Received: At(at), Via: "api", Envelope: strings.Repeat("x", 500)})
		return id
	}
	plain, fresh := event("plain", old), event("fresh", now)
	gathered, answered, lately := event("gathered", old), event("answered", old), event("lately", old)
	s.Writer.AddAnswer(Answer{Event: gathered, Workflow: number(workflow), Start: "a", State: "gathering", At: At(old)})
	s.Writer.AddAnswer(Answer{Event: answered, Workflow: number(workflow), Start: "a", State: "run", At: At(old)})
	s.Writer.AddAnswer(Answer{Event: lately, Workflow: number(workflow), Start: "a", State: "run", At: At(now)})
	first, newest, taken := event("first", old), event("newest", old), event("taken", old)
	s.Writer.AddUpdate(Update{Dataset: "readings", Event: first, At: At(old), Info: "{}"})
	s.Writer.AddUpdate(Update{Dataset: "readings", Event: newest, At: At(old), Info: "{}"})
	for n := range 2000 {
		event(fmt.Sprint("bulk", n), old)
	}
	if err := s.Writer.Commit(); err != nil {
		t.Fatal(err)
	}
	ids, err := s.ForgettableEvents(t.Context(), At(now.Add(-time.Hour)), 10_000)
	if err != nil {
		t.Fatal(err)
	}
	for name, one := range map[string]struct {
		id   int64
		gone bool
	}{"plain": {plain, true}, "fresh": {fresh, false}, "gathered": {gathered, false}, "answered": {answered, true}, "answered lately": {lately, false},
		"an older update": {first, true}, "the newest update": {newest, false}, "taken": {taken, true}} {
		if slices.Contains(ids, one.id) != one.gone {
			t.Errorf("%s: need not be kept is %v", name, !one.gone)
		}
	}
	large := func() int64 {
		var pages int64
		if err := s.read.GetContext(t.Context(), &pages, `PRAGMA page_count`); err != nil {
			t.Fatal(err)
		}
		return pages
	}
	before := large()
	s.Writer.Begin()
	// A start takes one up between the looking and the removing.
	s.Writer.AddAnswer(Answer{Event: taken, Workflow: number(workflow), Start: "b", State: "kept", At: At(now)})
	s.Writer.ForgetEvents(ids)
	s.Writer.ForgetRefusals(At(now))
	s.Writer.GiveBack(10_000)
	if err := s.Writer.Commit(); err != nil {
		t.Fatal(err)
	}
	if after := large(); after > before/2 {
		t.Errorf("of %d pages %d are left", before, after)
	}
	for id, there := range map[int64]bool{plain: false, taken: true, newest: true} {
		if _, err := s.Event(t.Context(), id); (err == nil) != there {
			t.Errorf("event %d: %v", id, err)
		}
	}
}

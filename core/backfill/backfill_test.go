package backfill

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"wiselantern/core/calendar"
)

var oslo = func() *time.Location {
	z, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		panic(err)
	}
	return z
}()

func TestRanges(t *testing.T) {
	for _, c := range []struct{ from, to, want string }{
		{"2026-03-28", "2026-03-29", "2026-03-28T00:00:00+01:00 2026-03-30T00:00:00+02:00"},
		{"2026-03-28", "2026-03-28", "2026-03-28T00:00:00+01:00 2026-03-29T00:00:00+01:00"},
		{"2026-03-28T06:00", "2026-03-28 07:30", "2026-03-28T06:00:00+01:00 2026-03-28T07:30:00+01:00"},
		{"2026-03-28T06:00:00Z", "2026-03-28", "2026-03-28T06:00:00Z 2026-03-29T00:00:00+01:00"},
		{"2026-03-29", "2026-03-28", "the range ends before it starts: from 2026-03-29 to 2026-03-28; swap the two"},
		{"2026-03-28T06:00", "2026-03-28T06:00", "the range ends before it starts"},
		{"yesterday", "2026-03-28", `from: "yesterday" is neither a date nor a moment`},
		{"2026-03-28", "28.3.", `to: "28.3." is neither`},
	} {
		r, err := ParseRange(c.from, c.to, oslo)
		got := r.From.Format(time.RFC3339) + " " + r.Until.Format(time.RFC3339)
		if err != nil {
			got = err.Error()
		}
		if !strings.HasPrefix(got, c.want) {
			t.Errorf("%s to %s: got %s, want %s", c.from, c.to, got, c.want)
		}
	}
}

func hours(t *testing.T, from, to string) []calendar.Window {
	t.Helper()
	rule, err := calendar.Every(time.Hour, oslo)
	if err != nil {
		t.Fatal(err)
	}
	r, err := ParseRange(from, to, oslo)
	if err != nil {
		t.Fatal(err)
	}
	windows, err := Windows([]calendar.Schedule{calendar.NewSchedule(rule)}, r, time.Date(2027, 1, 1, 0, 0, 0, 0, oslo))
	if err != nil {
		t.Fatal(err)
	}
	return windows
}

// A plan as text: each stretch as hours of its first day, with how many windows.
func text(p Plan) string {
	var out []string
	for _, s := range p.Stretches {
		one := s.Start.In(oslo).Format("2T15") + "-" + s.End.In(oslo).Format("2T15")
		if s.Windows > 1 {
			one += fmt.Sprintf("x%d", s.Windows)
		}
		out = append(out, one)
	}
	return strings.Join(out, " ")
}

func TestPlans(t *testing.T) {
	windows := hours(t, "2026-03-28T20:00", "2026-03-29T06:00") // the night of 23 hours
	states := map[int]State{20: Succeeded, 21: Failed, 1: Failed, 3: Running}
	state := func(w calendar.Window) State {
		if s, ok := states[w.Start.In(oslo).Hour()]; ok {
			return s
		}
		return Missing
	}
	for _, c := range []struct {
		name, want string
		o          Options
	}{
		{"what is missing", "28T22-28T23 28T23-29T00 29T00-29T01 29T04-29T05 29T05-29T06", Options{}},
		{"the newest first", "29T05-29T06 29T04-29T05 29T00-29T01 28T23-29T00 28T22-28T23", Options{Newest: true}},
		{"what failed", "28T21-28T22 29T01-29T03", Options{Only: OnlyFailed}},
		{"all", "28T20-28T21 28T21-28T22 28T22-28T23 28T23-29T00 29T00-29T01 29T01-29T03 29T03-29T04 29T04-29T05 29T05-29T06", Options{Only: OnlyAll}},
		{"merged up to two hours", "28T22-29T00x2 29T00-29T01 29T04-29T06x2", Options{Merge: 2 * time.Hour}},
		{"merged without end, but not over a gap", "28T22-29T01x3 29T04-29T06x2", Options{Merge: 1000 * time.Hour}},
		{"on Sundays", "29T00-29T01 29T04-29T05 29T05-29T06", Options{Days: []time.Weekday{time.Sunday}}},
		{"in another month", "", Options{Months: []time.Month{time.April}}},
	} {
		c.o.Zone = oslo
		p := New(windows, state, c.o)
		if got := text(p); got != c.want {
			t.Errorf("%s: got %s, want %s", c.name, got, c.want)
		}
		sum := 0
		for _, s := range p.Stretches {
			sum += s.Windows
		}
		if sum != p.Chosen {
			t.Errorf("%s: %d windows are chosen, and %d in the stretches", c.name, p.Chosen, sum)
		}
	}
	if p := New(windows, state, Options{Zone: oslo}); p.Windows != 9 || p.States[Missing] != 5 || p.States[Failed] != 2 || p.States[Running] != 1 || p.States[Succeeded] != 1 {
		t.Errorf("%+v", p)
	}
}

func TestWindowsThatCannotBe(t *testing.T) {
	minute, _ := calendar.Every(time.Minute, time.UTC)
	hour, _ := calendar.Every(time.Hour, time.UTC)
	now := time.Date(2026, 3, 28, 12, 30, 0, 0, time.UTC)
	for _, c := range []struct {
		rule           calendar.Rule
		from, to, want string
	}{
		{minute, "1996-03-28", "2026-03-27", "the range has about 15778080 windows, over the limit of 300000; make it shorter"},
		{hour, "2026-03-29", "2026-03-30", "the range lies in the future"},
		{hour, "2026-03-28T06:10", "2026-03-28T06:50", "no window lies whole in the range from 2026-03-28 06:10 to 2026-03-28 06:50"},
	} {
		r, err := ParseRange(c.from, c.to, time.UTC)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Windows([]calendar.Schedule{calendar.NewSchedule(c.rule)}, r, now); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s to %s: got %v, want %s", c.from, c.to, err, c.want)
		}
	}
	r, _ := ParseRange("2026-03-28", "2026-03-28", time.UTC)
	windows, err := Windows([]calendar.Schedule{calendar.NewSchedule(hour), calendar.NewSchedule(hour)}, r, now)
	if err != nil || len(windows) != 12 {
		t.Errorf("of a day that has not ended, %d windows: %v", len(windows), err)
	}
	if tenYears := hours(t, "2016-01-01", "2025-12-31"); len(tenYears) != 87672 {
		t.Errorf("ten years have %d hours", len(tenYears))
	}
}

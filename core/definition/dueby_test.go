package definition

import (
	"strings"
	"testing"
	"time"
)

func TestWhenARunShouldBeDone(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	at := func(text string) time.Time {
		when, err := time.ParseInLocation("2006-01-02 15:04", text, oslo)
		if err != nil {
			t.Fatal(err)
		}
		return when
	}
	for _, c := range []struct {
		promise   DueBy
		due, want string
	}{
		{"45m", "2026-03-28 06:20", "2026-03-28 07:05"},
		{"1d", "2026-03-28 06:20", "2026-03-29 07:20"}, // a day has 24 hours, and that night one is missing
		{"07:00", "2026-03-28 06:20", "2026-03-28 07:00"},
		{"07:00", "2026-03-28 07:00", "2026-03-28 07:00"},
		{"07:00", "2026-03-28 07:01", "2026-03-29 07:00"},
		{"00:00", "2026-12-31 23:59", "2027-01-01 00:00"},
		{"02:30", "2026-03-28 12:00", "2026-03-29 03:30"}, // there is no half past two that night
		{"02:30", "2026-10-24 12:00", "2026-10-25 02:30"},
	} {
		if got := c.promise.After(at(c.due), oslo); !got.Equal(at(c.want)) {
			t.Errorf("%s after %s: %s instead of %s", c.promise, c.due, got.In(oslo), c.want)
		}
	}
	if got := DueBy("").After(at("2026-03-28 06:20"), oslo); !got.IsZero() {
		t.Errorf("without a promise: %s", got)
	}
	// The zone decides, not the one that the moment is written in.
	if got := DueBy("07:00").After(at("2026-03-28 06:20").UTC(), time.UTC); got.Hour() != 7 || got.Day() != 28 || got.Location() != time.UTC {
		t.Errorf("%s", got)
	}
}

func TestADueByThatSaysNothing(t *testing.T) {
	for text, ok := range map[string]bool{`"07:00"`: true, "45m": true, "1h30m": true, `"24:00"`: false, `"7:00"`: false, "soon": false, "0s": false, "[a]": false} {
		_, problems := Load([]File{{Path: "w.yaml", Text: "workflow: w\ndue_by: " + text + "\ntasks: {a: {exec: [a]}}\n"}})
		if (problems == nil) != ok {
			t.Errorf("due_by: %s: %v", text, problems)
		}
		if problems != nil && !strings.Contains(problems[0].String(), "w.yaml:2:9") {
			t.Errorf("the problem is not told where it is: %s", problems[0])
		}
	}
}

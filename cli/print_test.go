package cli

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"wiselantern/client"
	"wiselantern/core/flow"
)

func TestLengthsAreShort(t *testing.T) {
	for d, want := range map[time.Duration]string{
		-time.Second: "0s", 0: "0ms", 12 * time.Millisecond: "12ms", 1500 * time.Millisecond: "1.5s", 42 * time.Second: "42s",
		61 * time.Second: "1m01s", 3*time.Hour + 5*time.Minute: "3h05m", 50 * time.Hour: "2d02h",
	} {
		if got := length(d); got != want {
			t.Errorf("%v: %s, want %s", d, got, want)
		}
	}
}

func TestWindowsAreToldInTheReadersZone(t *testing.T) {
	here := time.Local
	t.Cleanup(func() { time.Local = here })
	oslo, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	time.Local = oslo
	at := func(text string) time.Time {
		moment, err := time.Parse(time.RFC3339, text)
		if err != nil {
			t.Fatal(err)
		}
		return moment
	}
	for _, c := range []struct{ start, end, want string }{
		{"2026-03-28T05:00:00Z", "2026-03-28T06:00:00Z", "Sat 28 Mar 06:00–07:00"},
		{"2026-03-28T22:00:00Z", "2026-03-28T23:00:00Z", "Sat 28 Mar 23:00–24:00"},
		{"2026-03-27T23:00:00Z", "2026-03-28T23:00:00Z", "Sat 28 Mar 00:00 – Sun 29 Mar 00:00"},
		{"2026-03-29T00:00:00Z", "2026-03-29T01:00:00Z", "Sun 29 Mar 01:00–03:00"}, // the clock jumps in between
	} {
		if got := span(&client.Window{Start: at(c.start), End: at(c.end)}); got != c.want {
			t.Errorf("%s to %s: %s, want %s", c.start, c.end, got, c.want)
		}
	}
	if got := span(nil); got != "–" {
		t.Errorf("no window: %s", got)
	}
}

// Every state has a glyph of its own, so that colour is never its only code.
func TestEveryStateHasAGlyph(t *testing.T) {
	seen := map[string]flow.State{}
	for _, s := range flow.States() {
		g := glyph(s.String())
		if other, ok := seen[g]; ok || g == "?" {
			t.Errorf("%s has the glyph %s of %s", s, g, other)
		}
		seen[g] = s
	}
	for _, word := range []string{"queued", "sent", "lost"} {
		if glyph(word) == "?" {
			t.Errorf("%s has no glyph", word)
		}
	}
	if glyph("nonsense") != "?" {
		t.Error("a word that is no state has a glyph")
	}
}

// Columns line up whatever stands in them, and nothing trails.
func TestTablesLineUp(t *testing.T) {
	var out bytes.Buffer
	p := painter(&out)
	p.table(&out, []string{"task", "state", ""}, [][]string{{"collect", p.state("succeeded"), ""}, {"a", p.state("failed"), "é – ●"}})
	want := "task     state\ncollect  ● succeeded\na        ✕ failed     é – ●\n"
	if got := out.String(); got != want {
		t.Errorf("got\n%q\nwant\n%q", got, want)
	}
	if strings.Contains(out.String(), "\x1b") {
		t.Error("there are colours where there is no terminal")
	}
}

func TestTheNoteOfATaskSaysWhatMatters(t *testing.T) {
	later := time.Now().Add(5*time.Second + 50*time.Millisecond)
	for want, task := range map[string]client.Task{
		"is being stopped":                           {State: "running", Stopping: true, Reason: "stopped by kari"},
		"attempt 1 failed: exit code 3; again in 5.": {State: "cooling", Reason: "attempt 1 failed: exit code 3", Wakes: &later},
		"waits for capacity store: 1 of 1 in use":    {State: "ready", Waits: "waits for capacity store: 1 of 1 in use"},
		"it comes after load, which failed":          {State: "unreached", Reason: "it comes after load, which failed"},
		"before: exit code 75":                       {State: "succeeded", Attempts: []client.Attempt{{Error: "exit code 75"}, {}}},
		"":                                           {State: "succeeded", Attempts: []client.Attempt{{}}},
	} {
		if got := taskNote(task); !strings.HasPrefix(got, want) || want == "" && got != "" {
			t.Errorf("%+v: %q, want %q", task, got, want)
		}
	}
}

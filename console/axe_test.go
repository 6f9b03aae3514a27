package console_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"wiselantern/client"
	"wiselantern/internal/testkit"
)

// broken fails whenever it is not told to go well.
const broken = `
workflow: gauges
about: Read the gauges of the upper basin.
owner: hydrology
labels: [gauges]
due_by: 30m
starts: [{cron: "20 6 * * *", zone: Europe/Oslo}]
params: {basin: {type: choice, of: [upper, lower], default: upper}, good: {type: bool, default: false}}
tasks:
  collect: {shell: 'echo "{\"rows\": 36}" > "$LANTERN_RESULT"; echo collected'}
  load:
    after: collect
    shell: 'test $LANTERN_PARAM_GOOD = true || { echo "reading the inbox"; echo "connect to store: connection refused" >&2; exit 7; }'
    updates: [readings/clean]
  report: {after: load, shell: 'true'}
  ask: {after: {load: failed}, approve: {ask: "Go on without the store?"}}
---
workflow: bulletin
starts: [{dataset: readings/clean}]
tasks: {print: {shell: 'true'}}
`

// axe finds what keeps people with a screen reader, or with weak eyes, from using
// the page (axe-core; rules of WCAG 2.2 A and AA among them).
func (r *reader) axe(page string) {
	r.t.Helper()
	found, err := chromedp.Run(r.tab, chromedp.Evaluate[[]string](`(async () => {
		const all = await axe.run(document, { runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"] });
		return all.violations.flatMap((v) => v.nodes.slice(0, 4).map((n) => v.id + ": " + n.html.slice(0, 220) + "\n    " + n.failureSummary.split("\n").slice(1).join("; ")));
	})()`, chromedp.EvalAwaitPromise))
	if err != nil {
		r.t.Fatalf("%s: %v", page, err)
	}
	for _, f := range found {
		r.t.Errorf("%s: %s", page, f)
	}
}

func TestNothingKeepsAnybodyOut(t *testing.T) {
	script, err := os.ReadFile(filepath.Join("node_modules", "axe-core", "axe.min.js"))
	if err != nil {
		t.Fatal(err)
	}
	r := newReader(t)
	r.signsIn()
	r.service.Apply(t, broken)
	good, err := r.service.Start(testkit.Context(t), "gauges", client.StartRequest{Texts: map[string]string{"good": "true"}})
	if err != nil {
		t.Fatal(err)
	}
	r.service.End(t, good.ID)
	bad := r.service.Begin(t, "gauges")
	r.service.Until(t, bad.ID, func(run client.Run) bool { return testkit.Task(t, run, "ask").State == "waiting" })
	if _, err := r.service.Backfill(testkit.Context(t), client.BackfillRequest{Workflow: "gauges", From: "2026-03-01", To: "2026-03-03", Texts: map[string]string{"good": "true"}}); err != nil {
		t.Fatal(err)
	}
	for _, theme := range []string{"dark", "light"} {
		r.do(chromedp.EmulateViewport(1280, 800))
		if _, err := chromedp.Run(r.tab, chromedp.Evaluate[any](fmt.Sprintf(`localStorage.setItem("lantern-theme", %q)`, theme))); err != nil {
			t.Fatal(err)
		}
		for _, page := range []struct{ path, ready string }{
			{"/", "Nothing is late."},
			{"/failures", "gauges / load"},
			{"/failures/1", "What people say"},
			{"/workflows", "Read the gauges"},
			{"/workflows/gauges", "Logbook"},
			{"/runs", "gauges:1"},
			{"/runs?cause=person", "gauges:1"},
			{"/runs/gauges:2", "connection refused"},
			{"/runs/gauges:2?view=table", "connection refused"},
			{"/runs/gauges:2?view=time", "decided the end"},
			{"/runs/gauges:2?task=ask", "Go on without the store?"},
			{"/compare?a=gauges:1&b=gauges:2", "They part at load"},
			{"/upcoming", "gauges"},
			{"/backfills", "gauges"},
			{"/backfills/1", "gauges"},
			{"/map", "readings/clean"},
			{"/events", "Came in"},
			{"/events?tab=awaited", "Go on without the store?"},
			{"/datasets", "readings/clean"},
			{"/datasets/readings/clean", "gauges:1"},
			{"/workers", "What workflows used"},
			{"/nowhere", "There is no such page"},
		} {
			r.opens(page.path)
			r.sees(page.ready)
			time.Sleep(300 * time.Millisecond) // colours fade in
			if _, err := chromedp.Run(r.tab, chromedp.Evaluate[any](string(script)+"; 1")); err != nil {
				t.Fatal(err)
			}
			r.axe(theme + " " + page.path)
			if strings.HasSuffix(page.path, "/failures/1") {
				r.presses("Rerun all")
				r.sees("Make the failed tasks again?", "gauges:2")
				time.Sleep(300 * time.Millisecond)
				r.axe(theme + " the dialog of " + page.path)
			}
		}
		// On a phone the pages stand behind a button, and nothing is wider than the screen.
		r.do(chromedp.EmulateViewport(390, 844))
		for _, path := range []string{"/", "/failures/1", "/runs/gauges:2?task=ask", "/workflows/gauges", "/runs"} {
			r.opens(path)
			r.sees("gauges")
			time.Sleep(300 * time.Millisecond)
			if wide, err := chromedp.Run(r.tab, chromedp.Evaluate[int]("document.documentElement.scrollWidth")); err != nil || wide > 390 {
				t.Errorf("%s is %d pixels wide on a phone of 390, %v", path, wide, err)
			}
			if _, err := chromedp.Run(r.tab, chromedp.Evaluate[any](string(script)+"; 1")); err != nil {
				t.Fatal(err)
			}
			r.axe(theme + " phone " + path)
		}
	}
}

package console_test

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"wiselantern/client"
	"wiselantern/internal/seed"
	"wiselantern/internal/testkit"
)

// The history that pages are measured on, and the one that they are compared with.
const (
	benchWorkflows = 500
	benchTasks     = 1_000_000
	benchLong      = 10_000
)

// seeded is a service on a history of that many tasks, seen through a browser.
func seeded(b *testing.B, tasks int) *reader {
	dir := filepath.Join(b.TempDir(), "data")
	if err := seed.Fill(context.Background(), dir, seed.Options{Workflows: benchWorkflows, Tasks: tasks, Long: benchLong}); err != nil {
		b.Fatal(err)
	}
	r := readerOf(b, testkit.StartByHand(b, dir), 9*time.Minute)
	r.do(chromedp.Navigate(r.service.Link))
	r.sees("Watch")
	return r
}

// shows is how long it takes from asking for a page until all of the words stand on it.
func (r *reader) shows(path string, words []string) time.Duration {
	r.t.Helper()
	r.do(chromedp.Navigate("about:blank"))
	conditions := make([]string, len(words))
	for i, w := range words {
		conditions[i] = fmt.Sprintf("text.includes(%q)", w)
	}
	began := time.Now()
	r.do(chromedp.Navigate(r.service.Address + path))
	look := "(() => { const text = document.body.innerText.replace(/\\s+/g, \" \"); return " + strings.Join(conditions, " && ") + " })()"
	_, err := chromedp.Run(r.tab, chromedp.Poll[bool](look))
	if err != nil && strings.Contains(err.Error(), "context with specified id") { // the page went away under it
		_, err = chromedp.Run(r.tab, chromedp.Poll[bool](look))
	}
	if err != nil {
		r.t.Fatalf("%s does not show %q: %v\n%s", path, words, err, r.text())
	}
	return time.Since(began)
}

// startNow asks for a run with what the workflow says.
var startNow = client.StartRequest{}

func median(all []time.Duration) time.Duration {
	slices.Sort(all)
	return all[len(all)/2]
}

// BenchmarkPagesWithAMillionTasks shows each page with a history of a million tasks
// over 500 workflows and, side by side, with none; both services and browsers are
// there all the time, and take turns.
func BenchmarkPagesWithAMillionTasks(b *testing.B) {
	much, none := seeded(b, benchTasks), seeded(b, 0)
	run, err := none.service.Start(b.Context(), "gauge-000", startNow)
	if err != nil {
		b.Fatal(err)
	}
	none.service.End(b, run.ID)
	slowest := 0.0
	for _, page := range []struct {
		path       string
		much, none []string
	}{
		{"/", []string{"Due next", "Each mark is a run"}, []string{"Due next", "Each mark is a run"}},
		{"/workflows", []string{"gauge-499"}, []string{"gauge-499"}},
		{"/workflows/gauge-000", []string{"gauge-000:10000", "Usually takes"}, []string{"gauge-000:1"}},
		{"/runs", []string{"gauge-499:"}, []string{"gauge-000:1"}},
		{"/runs/gauge-000:1", []string{"publish", "usually takes"}, []string{"publish", "usually takes"}},
		{"/failures", []string{"Nothing is broken"}, []string{"Nothing is broken"}},
		{"/upcoming", []string{"gauge-000"}, []string{"gauge-000"}},
		{"/backfills", []string{"Backfills"}, []string{"Backfills"}},
		{"/map", []string{"Nothing leads"}, []string{"Nothing leads"}},
		{"/events", []string{"Came in"}, []string{"Came in"}},
		{"/workers", []string{"What workflows used"}, []string{"What workflows used"}},
	} {
		var with, without []time.Duration
		for range 7 {
			with = append(with, much.shows(page.path, page.much))
			without = append(without, none.shows(page.path, page.none))
		}
		slowest = max(slowest, median(with).Seconds()/median(without).Seconds())
		b.Logf("%-24s %6.0f ms with a million tasks, %6.0f ms with none: %.2f times", page.path,
			float64(median(with).Microseconds())/1000, float64(median(without).Microseconds())/1000, median(with).Seconds()/median(without).Seconds())
	}
	scrolling(b, much)
	laidOut(b, none)
	for b.Loop() { // all of it is one measurement
	}
	b.ReportMetric(slowest, "x-slowest-page")
}

// scrolls a page for ten seconds and tells how long each frame took, in milliseconds.
const scrolls = `new Promise((done) => {
	const frames = [];
	let last = performance.now();
	const began = last;
	const frame = (now) => {
		frames.push(now - last);
		last = now;
		scrollBy(0, 65);
		if (now - began < 10000) requestAnimationFrame(frame);
		else done(frames);
	};
	requestAnimationFrame(frame);
})`

// scrolling goes through a logbook of 10,000 runs, a screen in a fifth of a second, and
// for comparison through a page of plain lines.
func scrolling(b *testing.B, r *reader) {
	r.do(chromedp.EmulateViewport(1280, 800))
	measure := func(what string) {
		frames, err := chromedp.Run(r.tab, chromedp.Evaluate[[]float64](scrolls, chromedp.EvalAwaitPromise))
		if err != nil {
			b.Fatal(err)
		}
		slices.Sort(frames)
		late := 0
		for _, f := range frames {
			if f > 1000.0/60*1.5 {
				late++
			}
		}
		b.Logf("scrolling %-28s %.1f frames a second for ten seconds, %d of %d late, the longest %.0f ms", what, float64(len(frames))/10, late, len(frames), frames[len(frames)-1])
	}
	r.shows("/workflows/gauge-000", []string{"gauge-000:10000"})
	measure("a logbook of 10,000 runs:")
	r.shows("/failures", []string{"Failures"})
	if _, err := chromedp.Run(r.tab, chromedp.Evaluate[int](`document.body.innerHTML = "<p>a line</p>".repeat(10000); 1`)); err != nil {
		b.Fatal(err)
	}
	measure("10,000 plain lines:")
}

// laidOut tells how long the layout of a graph of 500 tasks takes, folded and not.
func laidOut(b *testing.B, r *reader) {
	var text strings.Builder
	text.WriteString("workflow: wide\ntasks:\n")
	for i := range 500 {
		fmt.Fprintf(&text, "  t%03dx: {exec: [\"true\"]", i)
		if i >= 20 {
			fmt.Fprintf(&text, ", after: [t%03dx, t%03dx]", i-20, i-19+i%3)
		}
		text.WriteString("}\n")
	}
	r.service.Apply(b, text.String())
	run, err := r.service.Start(b.Context(), "wide", startNow)
	if err != nil {
		b.Fatal(err)
	}
	r.service.End(b, run.ID)
	shown := r.shows("/runs/"+run.ID, []string{"500 succeeded", "t000x", "usually takes"})
	took, err := chromedp.Run(r.tab, chromedp.Evaluate[[]float64](`performance.getEntriesByName("a graph is laid out").map((e) => e.duration)`))
	if err != nil || len(took) == 0 {
		b.Fatalf("%v, %v", took, err)
	}
	b.Logf("a graph of 500 tasks: laid out in %.0f ms; its page shown in %.0f ms", slices.Max(took), float64(shown.Microseconds())/1000)
}

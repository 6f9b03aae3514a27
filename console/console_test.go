package console_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"wiselantern/client"
	"wiselantern/console"
	"wiselantern/internal/browser"
	"wiselantern/internal/testkit"
)

// reader is somebody in front of a browser, at a real service.
type reader struct {
	t       testing.TB
	tab     context.Context
	service *testkit.Service
}

func newReader(t testing.TB) *reader { return readerOf(t, testkit.Start(t), 6*time.Minute) }

// readerOf sits in front of a service for at most that long.
func readerOf(t testing.TB, service *testkit.Service, longest time.Duration) *reader {
	if !console.Built() {
		t.Fatal("the console is not built; make build builds it")
	}
	ctx, stop := context.WithTimeout(context.Background(), longest)
	t.Cleanup(stop)
	tab, stopBrowser, err := browser.Start(ctx)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stopBrowser)
	r := &reader{t, tab, service}
	r.do(chromedp.EmulateViewport(1280, 1600)) // what is out of sight has no text
	return r
}

func (r *reader) do(steps ...chromedp.Action[chromedp.Void]) {
	r.t.Helper()
	if err := chromedp.Do(r.tab, steps...); err != nil {
		r.t.Fatal(err)
	}
}

func (r *reader) opens(path string) {
	r.t.Helper()
	r.do(chromedp.Navigate(r.service.Address + path))
}

func (r *reader) signsIn() {
	r.t.Helper()
	r.do(chromedp.Navigate(r.service.Link))
	r.sees("Workflows")
}

// text is what stands on the page, with one blank between words.
func (r *reader) text() string {
	r.t.Helper()
	text, err := chromedp.Run(r.tab, chromedp.Evaluate[string](`document.body.innerText.replace(/\s+/g, " ")`))
	if err != nil {
		r.t.Fatal(err)
	}
	return text
}

// sees waits until all of the words stand on the page.
func (r *reader) sees(words ...string) {
	r.t.Helper()
	deadline := time.Now().Add(30 * time.Second)
	for {
		text := r.text()
		missing := ""
		for _, w := range words {
			if !strings.Contains(text, w) {
				missing = w
			}
		}
		if missing == "" {
			return
		}
		if time.Now().After(deadline) {
			r.t.Fatalf("the page does not show %q, but\n%s", missing, text)
		}
		time.Sleep(30 * time.Millisecond)
	}
}

// presses goes to the button or link of that name, as a screen reader names it,
// and presses Enter.
func (r *reader) presses(name string) {
	r.t.Helper()
	script := fmt.Sprintf(`(() => {
		const all = [...document.querySelectorAll("button, a, [role=tab], [role=radio]")];
		const spoken = (e) => {
			const copy = e.cloneNode(true);
			copy.querySelectorAll("[aria-hidden]").forEach((hidden) => hidden.remove());
			return (e.getAttribute("aria-label") ?? copy.textContent).trim();
		};
		const found = all.filter((e) => spoken(e) === %q && e.offsetParent !== null && !e.disabled).at(-1);
		found?.focus();
		return !!found && document.activeElement === found;
	})()`, name)
	if _, err := chromedp.Run(r.tab, chromedp.Poll[bool](script)); err != nil {
		r.t.Fatalf("there is nothing called %q to press: %v\n%s", name, err, r.text())
	}
	r.do(chromedp.KeyEvent("\r"))
}

// chooses takes an option of the field of that label, as a person does with the
// keyboard.
func (r *reader) chooses(label, option string) {
	r.t.Helper()
	script := fmt.Sprintf(`(() => {
		const field = [...document.querySelectorAll("label")].find((l) => l.innerText.startsWith(%q))?.querySelector("select");
		field?.focus();
		return !!field;
	})()`, label)
	if _, err := chromedp.Run(r.tab, chromedp.Poll[bool](script)); err != nil {
		r.t.Fatalf("there is no field %q: %v", label, err)
	}
	r.do(chromedp.KeyEvent(option))
}

func (r *reader) address() string {
	r.t.Helper()
	at, err := chromedp.Run(r.tab, chromedp.Evaluate[string]("location.pathname + location.search"))
	if err != nil {
		r.t.Fatal(err)
	}
	return at
}

const gauges = `
workflow: gauges
about: Read the gauges of the upper basin.
owner: hydrology
params: {station: {type: choice, of: [G01, G02], default: G01}, fail: {type: bool, default: false}}
starts: [{cron: "20 6 * * *", zone: Europe/Oslo}]
tasks:
  collect: {about: Ask the mast, shell: 'echo "station $LANTERN_PARAM_STATION"; echo "a word aside" >&2'}
  load: {after: collect, shell: 'test $LANTERN_PARAM_FAIL = false || { echo "the store is away" >&2; exit 3; }'}
  report: {after: load, shell: 'echo "{\"rows\": 7}" > "$LANTERN_RESULT"'}
`

func TestOnlyWhoIsSignedInSeesAnything(t *testing.T) {
	r := newReader(t)
	r.opens("/workflows")
	r.sees("paste the token")
	if at := r.address(); at != "/sign-in?next=%2Fworkflows" {
		t.Errorf("the reader stands at %s", at)
	}
	r.do(chromedp.SendKeys("input", "wrong"))
	r.presses("Sign in")
	r.sees("✕ this is not the service's token")
	r.do(chromedp.SendKeys("input", "\b\b\b\b\b"+r.service.Token))
	r.presses("Sign in")
	r.sees("No workflows yet", "lantern apply .")
	r.presses("Sign out")
	r.sees("paste the token")
	// The link that serve prints works once.
	r.do(chromedp.Navigate("about:blank"), chromedp.Navigate(r.service.Link))
	r.sees("No workflows yet")
	r.presses("Sign out")
	r.sees("paste the token")
	r.do(chromedp.Navigate("about:blank"), chromedp.Navigate(r.service.Link))
	r.sees("✕ this link was used already")
}

func TestAWorkflowIsSeenStartedAndPaused(t *testing.T) {
	r := newReader(t)
	r.signsIn()
	r.opens("/workflows")
	r.service.Apply(t, gauges) // while the page is open
	r.sees("gauges", "Read the gauges of the upper basin.", "hydrology", "cron 20 6 * * *, Europe/Oslo", "no runs yet")
	r.presses("gauges")
	r.sees("No runs yet", "Version", "collect", "load", "report")
	r.presses("Pause")
	r.sees("◇ paused by kari")
	r.presses("Resume")
	r.sees("Pause")
	r.presses("Start")
	r.sees("Start gauges", "lantern start gauges")
	r.chooses("station", "G02")
	r.sees("lantern start gauges -p station=G02")
	r.presses("Start")
	r.sees("gauges:1", "succeeded", "station=G02", "3 succeeded")
	if at := r.address(); at != "/runs/gauges:1" {
		t.Errorf("the reader stands at %s", at)
	}
	r.sees("station G02") // the log of the first task
	r.presses("Runs")
	r.sees("gauges:1", "kari")
	r.presses("failed")
	r.sees("No run is failed")
	if at := r.address(); at != "/runs?state=failed" {
		t.Errorf("the filter does not stand in the address: %s", at)
	}
}

func TestAFailureIsUnderstoodFromItsPage(t *testing.T) {
	r := newReader(t)
	r.service.Apply(t, gauges)
	r.service.End(t, r.service.Begin(t, "gauges", "fail=true").ID)
	r.signsIn()
	r.opens("/runs/gauges:1")
	r.sees("✕", "failed", "exit code 3: the store is away", "1 failed", "1 succeeded", "1 unreached")
	r.presses("Table")
	r.sees("it comes after load, which failed")
	r.presses("collect")
	r.sees("Ask the mast", "station G01", "a word aside")
	if at := r.address(); at != "/runs/gauges:1?view=table&task=collect" {
		t.Errorf("what is shown does not stand in the address: %s", at)
	}
	r.presses("report")
	r.sees("It was never tried")
	r.opens("/runs/gauges:9")
	r.sees("The run gauges:9 cannot be shown", `there is no run "gauges:9"`)
	r.opens("/nowhere")
	r.sees("There is no such page.")
}

const books = `
workflow: books
resources: {desk: {open: {shell: 'true'}, close: {shell: 'true'}}}
tasks:
  page:
    for_each: [G01, G02, G03]
    within: desk
    shell: 'echo "the page of $LANTERN_ITEM"; test "$LANTERN_ITEM" != G02 || { echo "no readings" >&2; exit 4; }'
  review: {after: {page: failed}, start: {workflow: gauges}}
`

// Items are folded into their task, and each can be looked at; a run that a task
// has started is a step away, and so is the way back.
func TestItemsAndInnerRunsAreSeen(t *testing.T) {
	r := newReader(t)
	r.service.Apply(t, gauges)
	r.service.Apply(t, books)
	r.service.End(t, r.service.Begin(t, "books").ID)
	r.signsIn()
	r.opens("/runs/books:1")
	r.sees("desk:open", "desk:close", "3 items, 1 failed", "1 of its 3 items failed; the first was page[1]: exit code 4: no readings", "1 failed", "2 succeeded")
	r.presses("1 failed")
	r.presses("page[1], G02, failed")
	r.sees("page[1]", "no readings", "Rerun only this")
	if at := r.address(); at != "/runs/books:1?task=page%5B1%5D" {
		t.Errorf("what is shown does not stand in the address: %s", at)
	}
	r.opens("/runs/books:1?task=page%5B2%5D")
	r.sees("the page of G03")
	r.opens("/runs/books:1?task=review")
	r.sees("run gauges:1", "What it did stands in the run that it started.")
	r.presses("gauges:1")
	r.sees("started by review of books:1", "station G01")
	r.presses("books:1")
	r.sees("desk:close")
}

// What is due is seen as a week and as a list, and a backfill on a calendar, live.
func TestTimeIsSeen(t *testing.T) {
	r := newReader(t)
	r.signsIn()
	r.opens("/upcoming")
	r.sees("Nothing is due")
	r.opens("/backfills")
	r.sees("No backfills yet")
	r.service.Apply(t, "workflow: flows\nif_running: alongside\nstarts: [{every: 1h}]\ntasks: {a: {shell: 'case $LANTERN_WINDOW_START in *T05*) exit 4;; esac'}}")
	r.opens("/upcoming")
	r.sees("flows", "24×", "00:00–23:00", "lantern upcoming --feed")
	r.presses("list")
	r.sees("every 1h, UTC", "in ")
	made, err := r.service.Backfill(testkit.Context(t), client.BackfillRequest{Workflow: "flows", From: "2026-03-28", To: "2026-03-28", AtOnce: 2, StopAfter: 1})
	if err != nil {
		t.Fatal(err)
	}
	r.opens("/backfills")
	r.presses("1 of flows")
	r.sees("Backfill 1 of flows", "◇ paused", "1 of its runs did not succeed, and stop-after is 1", "Sat, 28 Mar 2026", "1 failed")
	r.presses("Resume")
	r.sees("Resume backfill 1?", "lantern backfills 1 --resume")
	r.presses("Resume")
	r.sees("✕ failed", "23 succeeded", "24 of 24", "Retry failed")
	if b, err := r.service.ShowBackfill(testkit.Context(t), made.Number); err != nil || b.Counts["succeeded"] != 23 {
		t.Errorf("%+v %v", b, err)
	}
	r.presses("Sat 28 Mar 05:00–06:00: failed, flows:6")
	r.sees("exit code 4", "backfill: backfill 1 of")
}

// The page is live: a run is seen going on, its log growing, a further attempt,
// its stop; nothing is read anew by hand.
func TestARunIsSeenLive(t *testing.T) {
	r := newReader(t)
	gate := filepath.Join(t.TempDir(), "gate")
	open := func(name string) {
		if err := os.WriteFile(gate+name, nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	wait := "until test -e " + gate
	r.service.Apply(t, fmt.Sprintf(`
workflow: live
tasks:
  count:
    retry: {times: 1, pause: 10ms}
    shell: 'echo first words; %[1]s1; do sleep 0.02; done; echo second words; test $LANTERN_ATTEMPT = 2 || exit 75; %[1]s2; do sleep 0.02; done'
  rest: {after: count, shell: 'sleep 60'}
`, wait))
	r.signsIn()
	run := r.service.Begin(t, "live")
	r.opens("/runs/" + run.ID)
	r.sees("live:1", "running", "first words", "1 idle")
	if strings.Contains(r.text(), "second words") {
		t.Error("words are seen that were not said yet")
	}
	open("1")
	r.sees("×2", "second words")
	r.presses("Attempt 1, failed")
	r.sees("exit code 75")
	open("2")
	r.sees("1 succeeded", "1 running")
	r.presses("Stop")
	r.sees("Stop live:1?", "rest: running, gets SIGTERM", "lantern stop live:1")
	r.presses("Stop the run")
	r.sees("1 stopped", "stopped by kari")
	if run := r.service.End(t, run.ID); run.State != "stopped" {
		t.Errorf("%+v", run)
	}
}

// When the service is away the page says so, keeps what it shows, and goes on by
// itself.
func TestALostConnectionIsToldAndHeals(t *testing.T) {
	r := newReader(t)
	r.service.Apply(t, gauges)
	r.signsIn()
	r.opens("/workflows")
	r.sees("gauges")
	r.service.Stop(t)
	r.sees("The connection is lost", "gauges")
	again := testkit.StartAt(t, r.service.Dir, strings.TrimPrefix(r.service.Address, "http://"))
	again.Apply(t, "workflow: masts\ntasks: {a: {shell: 'true'}}")
	r.sees("masts")
	for deadline := time.Now().Add(10 * time.Second); strings.Contains(r.text(), "The connection is lost"); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("it still says that the connection is lost")
		}
	}
}

func TestBothThemesCanBeChosen(t *testing.T) {
	r := newReader(t)
	r.signsIn()
	ground := func() string {
		colour, err := chromedp.Run(r.tab, chromedp.Evaluate[string]("getComputedStyle(document.body).backgroundColor"))
		if err != nil {
			t.Fatal(err)
		}
		return colour
	}
	was := ground()
	name := "Use the dark theme"
	if was == "rgb(13, 20, 36)" {
		name = "Use the light theme"
	}
	r.presses(name)
	is := ground()
	if is == was {
		t.Errorf("the ground stays %s", is)
	}
	r.opens("/workflows")
	r.sees("No workflows yet")
	if ground() != is {
		t.Error("the choice is forgotten")
	}
}

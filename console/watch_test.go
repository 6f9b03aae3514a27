package console_test

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"wiselantern/client"
	"wiselantern/internal/testkit"
)

// leaves waits until none of the words stands on the page.
func (r *reader) leaves(words ...string) {
	r.t.Helper()
	deadline := time.Now().Add(30 * time.Second)
	for {
		text, left := r.text(), ""
		for _, w := range words {
			if strings.Contains(text, w) {
				left = w
			}
		}
		if left == "" {
			return
		}
		if time.Now().After(deadline) {
			r.t.Fatalf("the page still shows %q:\n%s", left, text)
		}
		time.Sleep(30 * time.Millisecond)
	}
}

// types writes into the field of that label.
func (r *reader) types(label, text string) {
	r.t.Helper()
	script := fmt.Sprintf(`(() => {
		const field = [...document.querySelectorAll("label")].find((l) => l.textContent.trim().startsWith(%q))?.querySelector("input, textarea");
		field?.focus();
		return !!field;
	})()`, label)
	if _, err := chromedp.Run(r.tab, chromedp.Poll[bool](script)); err != nil {
		r.t.Fatalf("there is no field %q: %v\n%s", label, err, r.text())
	}
	r.do(chromedp.KeyEvent(text))
}

// ticks sets the box of that label.
func (r *reader) ticks(label string) {
	r.t.Helper()
	script := fmt.Sprintf(`(() => {
		const box = [...document.querySelectorAll("input[type=checkbox]")].find((b) => (b.getAttribute("aria-label") ?? b.closest("label")?.textContent ?? "").includes(%q));
		box?.focus();
		return !!box;
	})()`, label)
	if _, err := chromedp.Run(r.tab, chromedp.Poll[bool](script)); err != nil {
		r.t.Fatalf("there is no box %q: %v\n%s", label, err, r.text())
	}
	r.do(chromedp.KeyEvent(" "))
}

// window starts a run for an hour of a day.
func (r *reader) window(workflow string, hour int) client.Run {
	r.t.Helper()
	start := time.Date(2026, 3, 28, hour, 0, 0, 0, time.UTC)
	run, err := r.service.Start(testkit.Context(r.t), workflow, client.StartRequest{Window: &client.Window{Start: start, End: start.Add(time.Hour)}})
	if err != nil {
		r.t.Fatal(err)
	}
	return run
}

// The story of a morning (docs/guide/morning.md): a failure is seen on the Watch,
// opened, understood by its hint and by comparison, mended outside, made again with
// what rested on it, and seen to close.
func TestAMorning(t *testing.T) {
	r := newReader(t)
	r.signsIn()
	inbox := t.TempDir()
	put := func(name, text string) {
		if err := os.WriteFile(filepath.Join(inbox, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	put("05.csv", "36 rows")
	r.service.Apply(t, fmt.Sprintf(`
workflow: gauges
owner: hydrology
starts: [{cron: "20 6 * * *"}]
tasks:
  collect: {shell: 'echo "asking the masts"; wc -c < %[1]s/$(echo $LANTERN_WINDOW_START | cut -c12-13).csv'}
  load: {after: collect, shell: 'true'}
---
workflow: bulletin
owner: press
tasks:
  readings: {wait: {workflow: gauges, window: same}}
  print: {after: readings, shell: 'echo printed'}
`, inbox))
	r.service.End(t, r.window("gauges", 5).ID)
	r.opens("/")
	r.sees("● nothing failing", "● Nothing is broken.", "Nothing needs a person.")
	bad := r.window("gauges", 6)
	r.service.End(t, bad.ID)
	waiting := r.window("bulletin", 6)
	r.service.End(t, waiting.ID)

	// Seen, without anything being pressed.
	r.sees("✕ 2 failing", "gauges / collect", "A file or folder that it needs is not there.", "1 window")
	r.chooses("Only this owner", "hydrology")
	r.leaves("bulletin / readings")
	if at := r.address(); at != "/?owner=hydrology" {
		t.Errorf("the filter does not stand in the address: %s", at)
	}
	r.presses("gauges / collect")
	r.sees("Last good run gauges:1", "What changed since the last good run", "succeeded", "asking the masts", "06.csv", "gauges:2", "Sat 28 Mar 06:00–07:00")

	// Understood by comparison.
	r.presses("compare with gauges:2")
	r.sees("gauges:1 beside gauges:2", "They part at collect: succeeded in the first, failed in the second.")
	r.do(chromedp.NavigateBack())
	r.sees("What people say")

	// Taken on, and noted.
	r.types("A note for others", "the file comes by hand")
	r.presses("Note")
	r.sees("kari notes: the file comes by hand")
	r.presses("Take it on")
	r.sees("kari takes it on", "Leave it")

	// Mended outside, and made again with what rested on it.
	put("06.csv", "36 rows")
	r.presses("Rerun all")
	r.sees("Make the failed tasks again?", "gauges:2: collect, load", "bulletin:1", "lantern failures")
	r.ticks("what rested on them")
	r.sees("--rerun --follow-on")
	r.presses("Make them again")
	r.sees("Closed", "its windows have succeeded", "● mended")
	r.presses("Watch")
	r.sees("● nothing failing")
	if run := r.service.End(t, waiting.ID); run.State != "succeeded" {
		t.Errorf("%s is %s", run.ID, run.State)
	}
	r.presses("Failures")
	r.sees("Nothing is broken")
	r.presses("Closed")
	r.sees("gauges / collect", "bulletin / readings", "closed")
}

func TestThePanelsOfTheWatchAreArranged(t *testing.T) {
	r := newReader(t)
	r.signsIn()
	r.service.Apply(t, gauges)
	r.sees("Nothing is late.")
	r.presses("Arrange")
	r.presses("Take Late away")
	r.leaves("Nothing is late.")
	r.presses("Numbers further up")
	if at := r.address(); at != "/?panels=failing.w%7Eheld%7Erunning%7Enext%7Enumbers.w%7Estrip.w" {
		t.Errorf("the arrangement does not stand in the address: %s", at)
	}
	if _, err := chromedp.Run(r.tab, chromedp.Poll[bool](`document.querySelector("section[aria-label=Numbers] + section")?.ariaLabel === "Last 24 hours"`)); err != nil {
		t.Fatalf("the numbers have not moved: %v\n%s", err, r.text())
	}
	r.presses("Keep it for me")
	r.leaves("Keep it for me")
	r.opens("/workflows")
	r.sees("hydrology")
	r.opens("/")
	r.sees("Nothing needs a person.")
	if text := r.text(); strings.Contains(text, "Nothing is late.") || strings.Index(text, "Numbers") > strings.Index(text, "Last 24 hours") {
		t.Errorf("the arrangement was not kept:\n%s", text)
	}
	// An address that somebody sent wins, and what it does not know is left out.
	r.opens("/?panels=late~nonsense~running.owner=hydrology")
	r.sees("Nothing is late.", "Running owner hydrology")
	r.leaves("Last 24 hours")
	r.presses("Arrange")
	r.presses("As it came")
	r.sees("Last 24 hours", "Nothing is late.")
}

func TestALogbookIsFilteredAndCompared(t *testing.T) {
	r := newReader(t)
	r.signsIn()
	r.service.Apply(t, gauges)
	for range 3 {
		r.service.End(t, r.service.Begin(t, "gauges").ID)
	}
	r.service.End(t, r.service.Begin(t, "gauges", "station=G02", "fail=true").ID)
	r.opens("/workflows/gauges")
	r.sees("gauges:1", "gauges:4", "✕ failed", "Usually takes")
	r.presses("Filter")
	r.types("Param, as basin=upper", "station=G02")
	r.leaves("gauges:1")
	r.sees("gauges:4")
	r.presses("Show all")
	r.sees("gauges:1")
	r.types("Text of an error", "store is away")
	r.leaves("gauges:1")
	if at := r.address(); at != "/workflows/gauges?error=store+is+away" {
		t.Errorf("the filter does not stand in the address: %s", at)
	}
	r.presses("Show all")
	r.sees("gauges:1")
	r.ticks("Compare gauges:4")
	r.ticks("Compare gauges:3")
	r.presses("Compare 2")
	r.sees("gauges:3 beside gauges:4", "They part at load", "param station", "G01", "G02")
	// j goes to the first row and to the next; Enter opens it.
	r.opens("/runs")
	r.sees("gauges:1")
	r.do(chromedp.KeyEvent("j"), chromedp.KeyEvent("j"), chromedp.KeyEvent("\r"))
	r.sees("gauges:3", "3 succeeded")
	// The palette finds by a few letters, and g with a letter goes to a page.
	r.do(chromedp.KeyEvent("g"), chromedp.KeyEvent("f"))
	r.sees("gauges / load")
	r.presses("Go to")
	r.sees("trouble", "page, g h")
	r.do(chromedp.KeyEvent("gauges:2"))
	r.sees("run, succeeded")
	r.do(chromedp.KeyEvent("\r"))
	r.sees("gauges:2", "began")
	if at := r.address(); at != "/runs/gauges:2" {
		t.Errorf("the palette led to %s", at)
	}
}

func TestWhereTheTimeOfARunWent(t *testing.T) {
	r := newReader(t)
	r.signsIn()
	r.service.Apply(t, `
workflow: slow
starts: [{cron: "20 6 * * *", zone: Asia/Tokyo}]
tasks:
  first: {shell: 'sleep 0.3'}
  beside: {shell: 'true'}
  shaky: {after: [first, beside], retry: {times: 1, pause: 300ms}, shell: 'echo "WARN slow mast"; echo "ERROR no answer"; test $LANTERN_ATTEMPT = 2'}
  last: {after: shaky, shell: 'true'}
---
workflow: hush
params: {key: {type: text, secret: true, required: true}}
tasks: {first: {shell: 'sleep 0.1', env: {KEY: "${params.key}"}}}
`)
	run := r.service.End(t, r.service.Begin(t, "slow").ID)
	hush := r.service.End(t, r.service.Begin(t, "hush", "key=much-kept").ID)
	r.opens("/runs/" + run.ID + "?view=time&task=shaky")
	r.sees("decided the end", "cooling", "usually takes", "of processor", "after ● first ● beside", "before ● last")
	for _, name := range []string{"first", "shaky", "last"} {
		r.sees(name)
		if there, err := chromedp.Run(r.tab, chromedp.Evaluate[bool](fmt.Sprintf(`!!document.querySelector("[aria-label='%s, succeeded, decided the end']")`, name))); err != nil || !there {
			t.Errorf("%s is not on the way that decided the end, %v", name, err)
		}
	}
	r.presses("Attempt 1, failed")
	r.sees("attempt 1, ✕ failed", "ERROR no answer") // both attempts print the same
	r.types("Find in the log", "mast")
	r.leaves("ERROR no answer")
	r.sees("WARN slow mast")
	r.opens("/runs/" + hush.ID + "?task=first")
	r.presses("What it was given")
	r.sees("LANTERN_PARAM_KEY", "(secret)", "sleep 0.1")
	if text := r.text(); strings.Contains(text, "much-kept") {
		t.Errorf("a secret is shown:\n%s", text)
	}
	r.opens("/runs/" + run.ID)
	r.sees("began")
	// Times are shown in the zone of the rule, in UTC and by how long ago they were.
	r.presses("Times: here. Show them another way")
	r.sees("rule's zone")
	tokyo, err := time.LoadLocation("Asia/Tokyo")
	if err != nil {
		t.Fatal(err)
	}
	r.sees(run.Started.In(tokyo).Format("15:04"))
	r.presses("Times: rule's zone. Show them another way")
	r.presses("Times: UTC. Show them another way")
	r.sees("ago")
}

func TestALargeGraphFolds(t *testing.T) {
	r := newReader(t)
	r.signsIn()
	var text strings.Builder
	text.WriteString("workflow: wide\ntasks:\n  begin: {shell: 'true'}\n")
	for i := range 120 {
		fmt.Fprintf(&text, "  check/m%03d: {after: begin, shell: 'test %d != 77'}\n", i, i)
	}
	for i := range 60 {
		fmt.Fprintf(&text, "  load/m%03d: {after: check/m%03d, shell: 'true'}\n", i+60, i+60)
	}
	text.WriteString("  end: {after: load/*, shell: 'true'}\n")
	r.service.Apply(t, text.String())
	r.service.End(t, r.service.Begin(t, "wide").ID)
	r.opens("/runs/wide:1")
	r.sees("check/*", "load/*", "begin", "end")
	if text := r.text(); strings.Contains(text, "check/m003") {
		t.Errorf("the groups are not folded:\n%s", text)
	}
	r.presses("Open check/*")
	r.sees("check/m077")
	r.presses("Fold groups")
	r.sees("check/*")
}

func TestTheMapAndTheWorkersAreSeen(t *testing.T) {
	r := newReader(t)
	r.signsIn()
	r.service.Apply(t, `
workflow: raw
tasks: {make: {shell: 'sleep 30', updates: [readings/raw]}}
---
workflow: clean
starts: [{dataset: readings/raw}]
tasks: {make: {shell: 'true', updates: [readings/clean]}}
---
workflow: other
tasks: {go: {start: alone}}
---
workflow: alone
tasks: {a: {shell: 'true', takes: {store: 1}}}
`)
	r.opens("/map")
	r.sees("readings/raw", "clean", "updates", "alone")
	r.chooses("Follow", "readings/clean")
	r.leaves("starts workflow alone")
	r.sees("readings/raw", "raw", "Open readings/clean")
	run := r.service.Begin(t, "raw")
	r.service.Until(t, run.ID, func(run client.Run) bool { return testkit.Task(t, run, "make").State == "running" })
	r.opens("/workers")
	r.sees("1 of 8", "raw:1", "make")
	if _, err := r.service.Client.Stop(testkit.Context(t), run.ID, ""); err != nil {
		t.Fatal(err)
	}
	r.sees("Nothing just now.")
}

// The script that the first page needs is small, and what a page does not need is
// not loaded with it.
func TestTheFirstScriptIsSmall(t *testing.T) {
	r := newReader(t)
	page, err := http.Get(r.service.Address + "/")
	if err != nil {
		t.Fatal(err)
	}
	defer page.Body.Close()
	text, err := io.ReadAll(page.Body)
	if err != nil {
		t.Fatal(err)
	}
	total := 0
	for _, name := range regexp.MustCompile(`/assets/[^"]+\.js`).FindAllString(string(text), -1) {
		request, err := http.NewRequest(http.MethodGet, r.service.Address+name, nil)
		if err != nil {
			t.Fatal(err)
		}
		request.Header.Set("Accept-Encoding", "gzip") // which the service then answers with, packed
		script, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		packed, err := io.ReadAll(script.Body)
		script.Body.Close()
		if err != nil || script.Header.Get("Content-Encoding") != "gzip" {
			t.Fatalf("%s comes as %q, %v", name, script.Header.Get("Content-Encoding"), err)
		}
		total += len(packed)
	}
	t.Logf("%d KB", total>>10)
	if total == 0 || total > 250<<10 {
		t.Errorf("the first script has %d KB", total>>10)
	}
}

// An open page asks nothing while nothing changes.
func TestAQuietPageAsksNothing(t *testing.T) {
	r := newReader(t)
	r.signsIn()
	r.service.Apply(t, gauges)
	r.service.End(t, r.service.Begin(t, "gauges").ID)
	for _, path := range []string{"/", "/failures", "/workflows/gauges", "/runs/gauges:1", "/map", "/workers"} {
		r.opens(path)
		asked, since := -1, time.Now()
		for deadline := time.Now().Add(30 * time.Second); time.Since(since) < 3*time.Second; time.Sleep(100 * time.Millisecond) {
			now, err := chromedp.Run(r.tab, chromedp.Evaluate[int](`performance.getEntriesByType("resource").length`))
			if err != nil {
				t.Fatal(err)
			}
			if now != asked {
				asked, since = now, time.Now()
			}
			if time.Now().After(deadline) {
				t.Errorf("%s goes on asking: %d times by now", path, asked)
				break
			}
		}
	}
}

// What will not be done in time is told before anybody asks, and a workflow can start by it.
func TestWhatIsLateIsSeen(t *testing.T) {
	r := newReader(t)
	r.signsIn()
	r.service.Apply(t, `
workflow: slow
due_by: 1s
tasks: {a: {shell: 'sleep 30', updates: {readings/raw: {fresh_within: 1s}}}}
---
workflow: call
starts: [{event: lantern.run.late}]
tasks: {a: {shell: 'true'}}
`)
	r.sees("1 late", "readings/raw")
	run := r.service.Begin(t, "slow")
	r.sees("◷ 2 late", "slow:1", "it should have been done by", "readings/raw", "should be fresh within 1s")
	r.presses("slow:1")
	r.sees("◷ late since", "should be done by")
	r.opens("/runs")
	r.sees("call:1")
	if _, err := r.service.Client.Stop(testkit.Context(t), run.ID, ""); err != nil {
		t.Fatal(err)
	}
	r.opens("/?panels=late")
	r.sees("readings/raw")
	r.leaves("slow:1")
}

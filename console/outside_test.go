package console_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"wiselantern/client"
	"wiselantern/core/match"
	"wiselantern/internal/testkit"
)

const storms = `
workflow: storm
about: A storm is announced.
if_running: alongside
params: {basin: {type: text, default: none}}
starts: [{event: storm.warning, where: event.data.level > 2, params: {basin: "${event.subject}"}}]
tasks:
  read: {shell: 'echo "{\"rows\": 7}" > "$LANTERN_RESULT"', updates: {readings/extra: {about: Extra readings, fresh_within: 2h}}}
  permit: {wait: {any: {permit: {event: permit.given, where: event.data.valid}, office: {http: "http://127.0.0.1:1/", check: 5m}}}}
  alarm: {after: read, approve: {ask: "Warn the ${params.basin} basin?", show: {rows: "${task('read').result.rows}"}}}
  publish: {after: alarm, shell: 'true'}
`

func (r *reader) sends(kind, id, subject string, data any) {
	r.t.Helper()
	if _, err := r.service.SendEvents(testkit.Context(r.t), []match.Event{{ID: id, Source: "/office", Type: kind, Subject: subject, Data: data}}); err != nil {
		r.t.Fatal(err)
	}
}

// Somebody sees what comes in while the page is open, what it was taken for and what
// is awaited, answers the question, and sees the data set that came of it.
func TestWhatIsOutsideIsSeenAndAnswered(t *testing.T) {
	r := newReader(t)
	r.signsIn()
	r.presses("Events")
	r.sees("No event has come yet", "lantern hook add NAME")
	r.presses("Refused")
	r.sees("Nothing was refused")
	r.presses("Awaited")
	r.sees("Nothing is awaited")
	r.presses("Came in")
	r.service.Apply(t, storms)
	r.sends("storm.warning", "1", "upper", map[string]any{"level": 2.5})
	r.sends("storm.warning", "2", "lower", map[string]any{"level": 1})
	r.sees("storm.warning upper api made storm:1", "storm.warning lower api nobody wanted it")
	page, err := r.service.Events(testkit.Context(t), client.EventsFilter{Type: "storm.*"})
	if err != nil {
		t.Fatal(err)
	}
	r.presses(fmt.Sprint(page.Events[0].Number))
	r.sees(`"source": "/office"`)
	r.presses("Nobody wanted")
	for deadline := time.Now().Add(10 * time.Second); strings.Contains(r.text(), "made storm:1"); {
		if time.Now().After(deadline) {
			t.Fatalf("what somebody wanted is listed too: %s", r.text())
		}
	}
	r.sees("storm.warning lower")
	if at := r.address(); !strings.Contains(at, "which=unwanted") {
		t.Errorf("the choice does not stand in the address: %s", at)
	}
	r.presses("From outside")
	r.presses("Awaited")
	r.sees("permit: the event permit.given", "office: http://127.0.0.1:1/", "Warn the upper basin?", "asks everybody")
	r.opens("/runs/storm:1?task=permit")
	r.sees("◌ permit: the event permit.given", "seen last: GET http://127.0.0.1:1/", "looked at again in")
	r.opens("/runs/storm:1?task=alarm")
	r.sees("Warn the upper basin?", "rows 7")
	r.do(chromedp.SendKeys("section[aria-label^=Task] input", "it rains"))
	r.presses("Yes")
	r.sees("Say yes?", "lantern approve storm:1 alarm --reason 'it rains'")
	r.presses("Say yes")
	r.sees("alarm succeeded", `"by":"kari"`, `"reason":"it rains"`)
	r.sends("permit.given", "3", "", map[string]any{"valid": true})
	r.sees("storm:1 ● succeeded")
	// What rests on the data set in another workflow is made again too, if that is asked for.
	r.service.Apply(t, "workflow: book\nstarts: [{dataset: readings/extra}]\ntasks: {bind: {shell: 'true'}}")
	r.sends("storm.warning", "4", "lower", map[string]any{"level": 3})
	r.opens("/runs/book:1")
	r.sees("book:1 ● succeeded")
	r.opens("/runs/storm:2?task=read")
	r.presses("Rerun only this")
	r.sees("Then, in order, what rested on them in other workflows: book:1", "lantern rerun storm:2 --only read")
	r.do(chromedp.Click("input[type=checkbox]"))
	r.sees("lantern rerun storm:2 --only read --follow-on")
	r.presses("Leave it")
	r.presses("Data sets")
	r.sees("readings/extra Extra readings", "fresh within 2h", "read of storm")
	r.presses("readings/extra")
	r.sees("read of storm:1", `{"rows":7}`)
	r.opens("/datasets/nobody/knows")
	r.sees(`there is no data set "nobody/knows"`)
}

// A link to a question is answered without signing in, once.
func TestAQuestionIsAnsweredAtItsLink(t *testing.T) {
	r := newReader(t)
	r.service.Apply(t, storms)
	r.sends("storm.warning", "1", "upper", map[string]any{"level": 2.5})
	ctx := testkit.Context(t)
	r.service.Until(t, "storm:1", func(run client.Run) bool { return testkit.Task(t, run, "alarm").State == "waiting" })
	link, err := r.service.AnswerLink(ctx, "storm:1", client.AnswerLinkRequest{Task: "alarm", Person: "duty"})
	if err != nil {
		t.Fatal(err)
	}
	r.do(chromedp.Navigate(link.URL))
	r.sees("alarm of storm:1 asks duty", "Warn the upper basin?", "rows 7")
	r.presses("No")
	r.sees("You said no", "This link is used up")
	run := r.service.Until(t, "storm:1", func(run client.Run) bool { return testkit.Task(t, run, "publish").State == "skipped" })
	if alarm := testkit.Task(t, run, "alarm"); alarm.State != "skipped" || alarm.Result["by"] != "duty" {
		t.Errorf("%+v", alarm)
	}
	r.do(chromedp.Navigate("about:blank"), chromedp.Navigate(link.URL))
	r.sees("There is no question here", "this was answered already")
	r.do(chromedp.Navigate("about:blank"), chromedp.Navigate(r.service.Address+"/answer#code=made.up"))
	r.sees("this link is not one of ours")
}

// The page of a run that is not there says so, and shows the run once it comes.
func TestThePageOfARunThatIsNotThere(t *testing.T) {
	r := newReader(t)
	r.signsIn()
	r.service.Apply(t, storms)
	r.opens("/runs/storm:1")
	r.sees("✕ The run storm:1 cannot be shown", "storm has no runs yet")
	r.sends("storm.warning", "1", "upper", map[string]any{"level": 2.5})
	r.sees("storm:1", "basin=upper")
}

package engine

import (
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"wiselantern/core/backfill"
	"wiselantern/core/calendar"
	"wiselantern/service/dispatch"
)

const marked = `
workflow: marked
if_running: alongside
starts: [{every: 1h}]
watermarks:
  last_key: {type: whole, initial: 7, set: "${task('load').result.last}"}
  seen: {type: list, of: text, initial: []}
tasks:
  load: {exec: [bin/load, "${watermarks.last_key + 1}"]}
`

func TestWatermarks(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := begin(t, t.TempDir())
		if err := l.GoOn(t.Context(), anyGone); err != nil {
			t.Fatal(err)
		}
		time.Sleep(5 * time.Hour)
		l.apply(t, marked)
		marks := func() string {
			rows, err := l.store.Watermarks(t.Context(), 1)
			if err != nil {
				t.Fatal(err)
			}
			out := ""
			for _, r := range rows {
				out += fmt.Sprintf("%s=%s by %s%d ", r.Name, r.Value, r.Person, r.Number.Int64)
			}
			return strings.TrimSpace(out)
		}
		l.begin(t, "marked", calendar.Window{})
		l.begin(t, "marked", calendar.Window{}) // sees what the first one saw
		orders := l.hands.take()
		for i, result := range []string{`{"last": 12}`, `{"last": "many"}`} {
			if got := fmt.Sprint(orders[i].Exec); got != "[bin/load 8]" || orders[i].Marks["last_key"] != "7" || orders[i].Marks["seen"] != "[]" {
				t.Errorf("it is given %s and %v", got, orders[i].Marks)
			}
			if err := l.Ended(t.Context(), dispatch.Ended{AttemptID: orders[i].AttemptID, Started: time.Now(), At: time.Now(), Outcome: dispatch.Succeeded, Result: []byte(result)}); err != nil {
				t.Fatal(err)
			}
		}
		if got := marks(); got != "last_key=12 by 1" {
			t.Errorf("the watermarks are %s", got)
		}
		changes, err := l.store.Transitions(t.Context(), 0, 2, 100)
		if last := changes[len(changes)-1]; err != nil || !strings.Contains(last.Reason, `the watermark last_key stays as it is: "many" is not of the type whole`) {
			t.Errorf("%+v %v", last, err)
		}

		l = l.again(t)
		l.begin(t, "marked", calendar.Window{})
		orders = l.hands.take()
		if got := fmt.Sprint(orders[0].Exec); got != "[bin/load 13]" {
			t.Errorf("it is given %s", got)
		}
		if err := l.Ended(t.Context(), dispatch.Ended{AttemptID: orders[0].AttemptID, Started: time.Now(), At: time.Now(), Outcome: dispatch.Failed, Error: "it broke", Result: []byte(`{"last": 99}`)}); err != nil {
			t.Fatal(err)
		}
		if _, _, err := l.Backfill(t.Context(), "marked", Asked{From: "2000-01-01T01:00", To: "2000-01-01T02:00", Only: backfill.OnlyAll}, "kari", false); err != nil {
			t.Fatal(err)
		}
		l.report(t, "load", dispatch.Succeeded, `{"last": 50}`)
		if got := marks(); got != "last_key=12 by 1" {
			t.Errorf("after a failure and a backfill the watermarks are %s", got)
		}

		for text, want := range map[string]string{"last_key=x": `watermark "last_key": "x" is not of the type whole`, "lost_key=1": `did you mean "last_key"?`} {
			name, value, _ := strings.Cut(text, "=")
			if err := l.SetWatermark(t.Context(), "marked", name, value, "kari"); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%s: %v", text, err)
			}
		}
		for _, text := range []string{"last_key=40", "seen=G01,G02"} {
			name, value, _ := strings.Cut(text, "=")
			if err := l.SetWatermark(t.Context(), "marked", name, value, "kari"); err != nil {
				t.Fatal(err)
			}
		}
		if got := marks(); got != `last_key=40 by kari0 seen=["G01","G02"] by kari0` {
			t.Errorf("the watermarks are %s", got)
		}
		history, err := l.store.WatermarkHistory(t.Context(), 1, "last_key", 10)
		if err != nil || len(history) != 2 || history[1].Value != "12" {
			t.Errorf("%+v %v", history, err)
		}
	})
}

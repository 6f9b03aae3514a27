package engine

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"wiselantern/core/match"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// Events come in any order, some twice, between pauses, new versions and restarts;
// whatever happens, each start answers each event that it wants once, and each wait is
// released by the first that it wants.
func TestEachEventIsAnsweredOnceWhateverHappens(t *testing.T) {
	for seed := range uint64(12) {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) { eventsOf(t, seed) })
		})
	}
}

func eventsOf(t *testing.T, seed uint64) {
	draw := rand.New(rand.NewPCG(seed, 7))
	definitions := func(version int) string {
		return fmt.Sprintf(`
workflow: each
about: version %d
if_running: alongside
starts: [{event: rain.*, where: event.data.n >= 0}, {event: hail, collect: 7m}]
params: {n: {type: whole, default: 0}}
tasks: {a: {exec: [x]}}
---
workflow: quiet
if_running: alongside
starts: [{event: rain.light, settle: 3m}]
tasks: {a: {exec: [x]}}
---
workflow: waits
if_running: alongside
params: {n: {type: text, default: x}}
tasks: {a: {wait: {event: rain.*, subject: "${params.n}"}}, b: {after: a, exec: [y]}}`, version)
	}
	l := begin(t, t.TempDir())
	l.apply(t, definitions(0))
	kinds := []string{"rain.heavy", "rain.light", "hail", "snow"}
	sent := map[string]string{} // type by id
	waits := 0
	for step := range 120 {
		switch draw.IntN(14) {
		case 0:
			l = l.again(t)
		case 1:
			l.apply(t, definitions(step))
		case 2:
			if err := l.Pause(t.Context(), "each", "kari"); err != nil {
				t.Fatal(err)
			}
		case 3:
			if _, err := l.Resume(t.Context(), "each"); err != nil {
				t.Fatal(err)
			}
		case 4:
			if _, err := l.Start(t.Context(), "waits", Wanted{Params: map[string]any{"n": fmt.Sprint("s", draw.IntN(4))}}, "kari"); err != nil {
				t.Fatal(err)
			}
			waits++
		case 5:
			time.Sleep(time.Duration(draw.IntN(10)) * time.Minute)
		default:
			var batch []match.Event
			for range 1 + draw.IntN(3) {
				id := fmt.Sprint(draw.IntN(60)) // some come again, perhaps as something else
				kind := kinds[draw.IntN(len(kinds))]
				if was, known := sent[id]; known {
					kind = was
				}
				sent[id] = kind
				batch = append(batch, match.Event{ID: id, Source: "/s", Type: kind, Subject: fmt.Sprint("s", draw.IntN(4)), Data: map[string]any{"n": float64(draw.IntN(3))}})
			}
			if _, err := l.Receive(t.Context(), batch, "api", ""); err != nil {
				t.Fatal(err)
			}
		}
		synctest.Wait()
	}
	if _, err := l.Resume(t.Context(), "each"); err != nil {
		t.Fatal(err)
	}
	for n := range 4 { // whatever is still awaited comes
		if _, err := l.Receive(t.Context(), []match.Event{{ID: fmt.Sprint("last", n), Source: "/s", Type: "rain.heavy", Subject: fmt.Sprint("s", n), Data: map[string]any{"n": 0.0}}}, "api", ""); err != nil {
			t.Fatal(err)
		}
		sent[fmt.Sprint("last", n)] = "rain.heavy"
	}
	time.Sleep(time.Hour)
	synctest.Wait()
	l = l.again(t)

	events, err := l.store.Events(t.Context(), store.EventFilter{Limit: 1000, Own: false})
	if err != nil || len(events) != len(sent) {
		t.Fatalf("%d events are recorded of %d: %v", len(events), len(sent), err)
	}
	ids := make([]int64, len(events))
	kind := map[int64]string{}
	for i, e := range events {
		ids[i], kind[e.ID] = e.ID, e.Type
	}
	answers, err := l.store.Answers(t.Context(), ids)
	if err != nil {
		t.Fatal(err)
	}
	count := map[string]map[int64]int{}
	released := map[int64]int{}
	for _, a := range answers {
		switch a.State {
		case store.AnswerWait:
			released[a.Run.Int64]++
			continue
		case store.AnswerRun:
		default:
			t.Errorf("event %d of %s is %s: %s", a.Event, a.Name.String, a.State, a.Reason)
		}
		key := strings.Join(strings.Fields(a.Name.String+" "+a.Start), " ")
		if count[key] == nil {
			count[key] = map[int64]int{}
		}
		count[key][a.Event]++
	}
	for start, prefix := range map[string]string{"each event rain.* where event.data.n >= 0": "rain.", "each event hail": "hail", "quiet event rain.light": "rain.light"} {
		for id, k := range kind {
			if want := strings.HasPrefix(k, prefix); (count[start][id] == 1) != want || count[start][id] > 1 {
				t.Errorf("%q has answered the event %d, a %s, %d times", start, id, k, count[start][id])
			}
		}
	}
	if len(released) != waits || len(l.parked) != 0 || l.wanted.Len() != 3 {
		t.Errorf("%d of %d waits were released, %d are parked, %d patterns are left", len(released), waits, len(l.parked), l.wanted.Len())
	}
	for run, n := range released {
		if n != 1 {
			t.Errorf("the wait of run %d was released %d times", run, n)
		}
	}
	l.report(t, "a", dispatch.Succeeded, "")
}

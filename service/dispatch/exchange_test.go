package dispatch

import (
	"context"
	"encoding/json"
	"errors"
	"reflect"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"wiselantern/service/store"
)

// notes is a recorder that notes what it is told, or refuses it.
type notes struct {
	mu     sync.Mutex
	ended  []AttemptID
	refuse error
}

func (n *notes) Started(context.Context, Started) error { return n.refuse }
func (n *notes) Log(context.Context, Log) error         { return n.refuse }
func (n *notes) Ended(_ context.Context, m Ended) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.refuse == nil {
		n.ended = append(n.ended, m.AttemptID)
	}
	return n.refuse
}

func anOrder(run int64, task int) Order { return Order{AttemptID: AttemptID{run, task, 1}} }

func TestOrdersGoOutOnceAndInTheirOrder(t *testing.T) {
	x := NewExchange(&notes{})
	for task := range 5 {
		x.Send(anOrder(1, task))
		x.Send(anOrder(1, task)) // sent again
	}
	if n := x.Waiting(); n != 5 {
		t.Errorf("%d orders wait", n)
	}
	for task := range 5 {
		o, _, err := x.Take(t.Context())
		if err != nil || o.Task != task {
			t.Fatalf("order %d came as %d: %v", task, o.Task, err)
		}
		x.Send(o) // again, while it is being executed
	}
	if n := x.Waiting(); n != 0 {
		t.Errorf("%d orders wait", n)
	}
	if !x.Knows(AttemptID{1, 3, 1}) || x.Knows(AttemptID{1, 3, 2}) {
		t.Error("it does not know what is out")
	}
}

func TestAnOrderIsForgottenOnlyWhenItsReportIsRecorded(t *testing.T) {
	recorder := &notes{refuse: errors.New("the disk is full")}
	x := NewExchange(recorder)
	x.Send(anOrder(1, 1))
	o, _, err := x.Take(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if err := x.Ended(t.Context(), Ended{AttemptID: o.AttemptID}); err == nil || !x.Knows(o.AttemptID) {
		t.Errorf("a report that was not recorded was acknowledged: %v", err)
	}
	recorder.refuse = nil
	if err := x.Ended(t.Context(), Ended{AttemptID: o.AttemptID}); err != nil || x.Knows(o.AttemptID) || len(recorder.ended) != 1 {
		t.Errorf("%v %v", err, recorder.ended)
	}
}

func TestACancelledOrderIsTakenBackOrItsWorkerTold(t *testing.T) {
	x := NewExchange(&notes{})
	x.Send(anOrder(1, 1))
	x.Send(anOrder(1, 2))
	x.Cancel(AttemptID{1, 1, 1})
	x.Cancel(AttemptID{9, 9, 9}) // unknown: nothing
	o, cancelled, err := x.Take(t.Context())
	if err != nil || o.Task != 2 {
		t.Fatalf("%+v %v", o, err)
	}
	select {
	case <-cancelled:
		t.Fatal("it is cancelled before anybody asked for it")
	default:
	}
	x.Cancel(o.AttemptID)
	x.Cancel(o.AttemptID) // twice is once
	select {
	case <-cancelled:
	default:
		t.Error("its worker was not told")
	}
}

// Each order reaches one of many workers, none is lost, and a worker that gives
// up while it waits does not take a wake-up with it.
func TestManyWorkersShareTheOrders(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := NewExchange(&notes{})
		var taken sync.Map
		var count, impatient atomic.Int64
		var workers sync.WaitGroup
		for i := range 20 {
			workers.Go(func() {
				for {
					ctx, stop := context.WithCancel(context.Background())
					if i%2 == 0 { // this one gives up now and then
						ctx, stop = context.WithTimeout(context.Background(), time.Duration(i+1)*time.Millisecond)
					}
					o, _, err := x.Take(ctx)
					stop()
					switch {
					case errors.Is(err, ErrClosed):
						return
					case err != nil:
						impatient.Add(1)
						continue
					}
					if _, before := taken.LoadOrStore(o.AttemptID, true); before {
						t.Errorf("order %s was given out twice", o.AttemptID)
					}
					count.Add(1)
				}
			})
		}
		for n := range 500 {
			x.Send(anOrder(int64(n), 0))
			if n%7 == 0 {
				time.Sleep(3 * time.Millisecond)
			}
		}
		time.Sleep(time.Second)
		if count.Load() != 500 || impatient.Load() == 0 {
			t.Errorf("%d of 500 orders were taken, %d times one gave up", count.Load(), impatient.Load())
		}
		x.Close()
		workers.Wait()
		x.Send(anOrder(1000, 0))
		if _, _, err := x.Take(context.Background()); !errors.Is(err, ErrClosed) {
			t.Errorf("it gives out orders after it was closed: %v", err)
		}
	})
}

// The messages can cross a network.
func TestMessagesComeBackFromJSON(t *testing.T) {
	code := 3
	at := time.Date(2026, 3, 28, 6, 0, 0, 123000, time.UTC)
	for _, message := range []any{
		&Order{AttemptID: AttemptID{1, 2, 3}, RunName: "gauges:1", TaskName: "load", Kind: "exec", Exec: []string{"bin/load", "a b"}, Env: map[string]string{"A": "é"},
			Params: map[string]string{"p": ""}, Parcel: "abc", Timeout: time.Minute, Start: at, End: at.Add(time.Hour), Trace: "00-1-2-01"},
		&Started{AttemptID: AttemptID{1, 2, 3}, Worker: "w", At: at},
		&Ended{AttemptID: AttemptID{1, 2, 3}, Worker: "w", Started: at, At: at, Outcome: Failed, ExitCode: &code, Error: "e", Result: json.RawMessage(`{"a":1}`)},
		&Log{AttemptID: AttemptID{1, 2, 3}, First: 7, Lines: []store.Line{{At: at, Error: true, Joined: true, Text: []byte{0xff, 0, '\n'}}}},
	} {
		text, err := json.Marshal(message)
		if err != nil {
			t.Fatal(err)
		}
		back := reflect.New(reflect.TypeOf(message).Elem()).Interface()
		if err := json.Unmarshal(text, back); err != nil || !reflect.DeepEqual(back, message) {
			t.Errorf("%s came back as %+v (%v)", text, back, err)
		}
	}
}

func TestAttemptIDs(t *testing.T) {
	id := AttemptID{17, 3, 2}
	if back, err := ParseAttemptID(id.String()); err != nil || back != id {
		t.Errorf("%s came back as %v: %v", id, back, err)
	}
	for _, text := range []string{"", "1.2", "1.2.3.4", "a.b.c", "1.2.3x", "01.2.3", "1.2.3/../x"} {
		if id, err := ParseAttemptID(text); err == nil {
			t.Errorf("%q was read as %v", text, id)
		}
	}
}

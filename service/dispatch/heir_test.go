package dispatch_test

import (
	"slices"
	"testing"
	"time"

	"wiselantern/service/dispatch"
)

// ahead are attempts of before: what is fetched ahead of them does not go back yet, since
// others may have them.
func ahead() (ids []dispatch.AttemptID) {
	for n := range int64(9) {
		ids = append(ids, anOrder(100+n).AttemptID)
	}
	return ids
}

// leaves has a worker of that name take two orders, fetch others ahead, and be gone; two
// orders have ended without its having said that it knows. It tells what had begun.
func (p *place) leaves(name string) (begun []dispatch.AttemptID) {
	p.t.Helper()
	worker, connection := p.courier(name)
	for n := range int64(4) {
		p.send(anOrder(n))
		o, _ := p.take(worker)
		if err := worker.Ended(p.t.Context(), took(o, time.Millisecond)); err != nil {
			p.t.Fatal(err)
		}
	}
	for n := range int64(9) {
		p.send(anOrder(100 + n))
	}
	for range 4 {
		o, _ := p.take(worker)
		begun = append(begun, o.AttemptID)
	}
	p.until("all orders are fetched", func() bool {
		return slices.ContainsFunc(p.office.Workers(), func(w dispatch.Worker) bool { return w.Name == name && len(w.Holds) == 9 })
	})
	connection.Close()
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, id := range begun[:2] {
		delete(p.open, id)
	}
	return begun[2:]
}

// What a worker had fetched when it was killed is given to the next one at once, and as for
// the first time; what had begun or ended is not.
func TestTheNextWorkerGetsWhatWasNotBegun(t *testing.T) {
	p := newPlace(t, 0, ahead()...)
	begun := p.leaves("a")
	next, _ := p.heir("a", "a, again", dispatch.Estate{Of: []string{"a"}, Begun: begun})
	got := map[int64]int{}
	for range 5 {
		o, _ := p.take(next)
		got[o.Run]++
		if err := next.Ended(t.Context(), took(o, time.Second)); err != nil {
			t.Fatal(err)
		}
	}
	nothingFor(t, next)
	for n := int64(104); n < 109; n++ {
		if got[n] != 1 {
			t.Errorf("executed were %v", got)
		}
	}
}

// Where others take from the same queue nobody can tell who has an order, nor may a worker
// of another name speak for the one that is gone.
func TestNoOrderIsGivenAnewThatAnotherMayHave(t *testing.T) {
	t.Run("others", func(t *testing.T) {
		p := newPlace(t, 0, ahead()...)
		other, _ := p.courier("b")
		begun := p.leaves("a")
		next, _ := p.heir("a", "a, again", dispatch.Estate{Of: []string{"a"}, Begun: begun})
		nothingFor(t, next)
		nothingFor(t, other)
	})
	t.Run("another name", func(t *testing.T) {
		p := newPlace(t, 0, ahead()...)
		begun := p.leaves("a")
		next, _ := p.heir("b", "b", dispatch.Estate{Of: []string{"a"}, Begun: begun})
		nothingFor(t, next)
	})
}

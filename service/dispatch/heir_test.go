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
	p.short(worker, 0)
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
	p.once(p.executes(next, "a", 5, time.Second), 104, 5)
	nothingFor(t, next)
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

// The next service sends again what a worker had begun before it hears so from the one that
// follows it: what that has told is not executed a second time, though its message came later
// than the word that it had begun.
func TestWhatWasSentAgainIsNotExecutedOnceItsEndIsTold(t *testing.T) {
	p := newPlace(t, 0, anOrder(1).AttemptID)
	stream := p.stream()
	next, _ := p.heirWith("a", "a, again", dispatch.Estate{}, []dispatch.AttemptID{anOrder(1).AttemptID}) // it has said what had begun
	p.until("it has said hello", func() bool { return len(p.office.Workers()) > 0 })
	p.send(anOrder(1))
	p.until("it stands in the stream", func() bool { alone, _ := p.messages(stream); return len(alone) == 1 })
	lost := succeeded(anOrder(1), "a")
	lost.Outcome = dispatch.Lost
	if err := next.Ended(t.Context(), lost); err != nil {
		t.Fatal(err)
	}
	nothingFor(t, next)
	p.empty(stream)
}

package engine

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"wiselantern/core/flow"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// ledger says who has what of the capacities. Attempts that cannot have all that
// they take wait, the highest priority first, then the oldest run; none is
// overtaken by a later one that takes of the same capacity.
type ledger struct {
	units   map[string]int // that there are; a capacity that nobody has set is not in it
	inUse   map[string]int
	holding map[dispatch.AttemptID]map[string]int
	waiting []waiter // in the order of their turns
	open    bool     // orders may be sent: the workers have told what they know
}

type waiter struct {
	id       dispatch.AttemptID
	priority int
	takes    map[string]int
}

func newLedger() ledger {
	return ledger{units: map[string]int{}, inUse: map[string]int{}, holding: map[dispatch.AttemptID]map[string]int{}}
}

// queue has an attempt wait for its turn.
func (c *ledger) queue(w waiter) {
	if c.holding[w.id] != nil {
		return
	}
	at, found := slices.BinarySearchFunc(c.waiting, w, func(a, b waiter) int {
		if a.priority != b.priority {
			return b.priority - a.priority
		}
		for _, d := range [3]int64{a.id.Run - b.id.Run, int64(a.id.Task - b.id.Task), int64(a.id.Attempt - b.id.Attempt)} {
			if d != 0 {
				return int(d)
			}
		}
		return 0
	})
	if !found {
		c.waiting = slices.Insert(c.waiting, at, w)
	}
}

// isOut notes that an attempt that seemed to wait for its turn is out.
func (c *ledger) isOut(id dispatch.AttemptID) {
	if at := slices.IndexFunc(c.waiting, func(w waiter) bool { return w.id == id }); at >= 0 {
		takes := c.waiting[at].takes
		c.waiting = slices.Delete(c.waiting, at, at+1)
		c.hold(id, takes)
	}
}

// hold notes that an attempt is out and has what it takes.
func (c *ledger) hold(id dispatch.AttemptID, takes map[string]int) {
	if c.holding[id] != nil {
		return
	}
	c.holding[id] = takes
	for name, n := range takes {
		c.inUse[name] += n
	}
}

// release gives back what an attempt has, or takes it out of those that wait.
func (c *ledger) release(id dispatch.AttemptID) {
	for name, n := range c.holding[id] {
		c.inUse[name] -= n
	}
	delete(c.holding, id)
	c.waiting = slices.DeleteFunc(c.waiting, func(w waiter) bool { return w.id == id })
}

// next takes out those whose turn it is.
func (c *ledger) next() (turns []dispatch.AttemptID) {
	if !c.open {
		return nil
	}
	spoken := map[string]bool{} // of those that wait longer
	c.waiting = slices.DeleteFunc(c.waiting, func(w waiter) bool {
		fits := true
		for name, n := range w.takes {
			if spoken[name] || c.inUse[name]+n > c.units[name] {
				fits = false
			}
		}
		if !fits {
			for name := range w.takes {
				spoken[name] = true
			}
			return false
		}
		c.hold(w.id, w.takes)
		turns = append(turns, w.id)
		return true
	})
	return turns
}

// sendWaiting sends the orders whose turn it is.
func (b *batch) sendWaiting() {
	for turns := b.engine.ledger.next(); len(turns) > 0; turns = b.engine.ledger.next() {
		for _, id := range turns {
			if l := b.engine.runs[id.Run]; l != nil {
				b.sendNow(l, id.Task, id.Attempt)
			} else {
				b.engine.ledger.release(id)
			}
		}
	}
}

// Capacity tells how a capacity stands.
type Capacity struct {
	Name    string
	Units   int
	InUse   int
	Waiting int  // attempts that wait for it
	Set     bool // somebody has said how many units there are
}

// Capacities lists the capacities that are set, or taken by somebody.
func (e *Engine) Capacities(ctx context.Context) (list []Capacity, err error) {
	err = e.ask(ctx, func(*batch) error {
		waiting := map[string]int{}
		for _, w := range e.ledger.waiting {
			for name := range w.takes {
				waiting[name]++
			}
		}
		names := map[string]bool{}
		for _, seen := range []map[string]int{e.ledger.units, e.ledger.inUse, waiting} {
			for name := range seen {
				names[name] = true
			}
		}
		for _, name := range slices.Sorted(maps.Keys(names)) {
			units, set := e.ledger.units[name]
			list = append(list, Capacity{Name: name, Units: units, InUse: e.ledger.inUse[name], Waiting: waiting[name], Set: set})
		}
		return nil
	})
	return list, err
}

// SetCapacity says how many units of a capacity there are. What is in use beyond
// that is let go on.
func (e *Engine) SetCapacity(ctx context.Context, name string, units int) error {
	return e.submit(ctx, func(b *batch) error {
		b.SetCapacity(store.Capacity{Name: name, Units: units})
		e.ledger.units[name] = units
		return nil
	})
}

// freeWorker is what an attempt waits for that has all that it takes.
const freeWorker = "waits for a free worker"

// Waits says of each ready task of a run what it waits for, by its number.
func (e *Engine) Waits(ctx context.Context, run int64) (waits map[int]string, err error) {
	waits = map[int]string{}
	err = e.ask(ctx, func(*batch) error {
		l := e.runs[run]
		if l == nil {
			return nil
		}
		for i, t := range l.run.Tasks {
			if t.State == flow.Ready {
				waits[i] = e.ledger.reason(dispatch.AttemptID{Run: run, Task: i, Attempt: t.Attempts})
				if q := cmp.Or(l.node(i).Queue, dispatch.DefaultQueue); waits[i] == freeWorker && !e.sender.Serves(q) {
					waits[i] = "no worker takes from the queue " + q
				}
			}
		}
		return nil
	})
	return waits, err
}

func (c *ledger) reason(id dispatch.AttemptID) string {
	at := slices.IndexFunc(c.waiting, func(w waiter) bool { return w.id == id })
	if at < 0 {
		return freeWorker
	}
	var parts []string
	takes := c.waiting[at].takes
	for _, name := range slices.Sorted(maps.Keys(takes)) {
		units, set := c.units[name]
		switch {
		case !set:
			parts = append(parts, fmt.Sprintf("waits for capacity %s, which nobody has set; say lantern capacity set %s UNITS", name, name))
		case takes[name] > units:
			parts = append(parts, fmt.Sprintf("waits for %d of capacity %s, which has only %d", takes[name], name, units))
		case c.inUse[name]+takes[name] > units:
			parts = append(parts, fmt.Sprintf("waits for capacity %s: %d of %d in use", name, c.inUse[name], units))
		}
	}
	if parts == nil {
		return "waits for its turn behind others that take of the same capacity"
	}
	return strings.Join(parts, "; ")
}

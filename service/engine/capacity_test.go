package engine

import (
	"math/rand/v2"
	"testing"

	"wiselantern/service/dispatch"
)

// Whatever comes and goes: no capacity is exceeded, nobody is overtaken by a
// later one that takes of the same capacity, and in the end all had their turn.
func TestTheLedgerIsFairAndNeverExceeded(t *testing.T) {
	names := []string{"mast", "store", "warehouse"}
	for seed := range uint64(200) {
		random := rand.New(rand.NewPCG(seed, 8))
		c := newLedger()
		c.open = true
		for _, name := range names {
			c.units[name] = 2 + random.IntN(4)
		}
		waiting := map[dispatch.AttemptID]waiter{}
		var out []dispatch.AttemptID
		for run, left := int64(0), 80; left > 0 || len(waiting) > 0 || len(out) > 0; {
			switch {
			case left > 0 && random.IntN(2) == 0:
				left--
				run++
				w := waiter{id: dispatch.AttemptID{Run: run, Attempt: 1}, priority: random.IntN(2), takes: map[string]int{}}
				for _, name := range names {
					if random.IntN(2) == 0 {
						w.takes[name] = 1 + random.IntN(2)
					}
				}
				c.queue(w)
				c.queue(w) // told twice
				waiting[w.id] = w
			case len(out) > 0:
				i := random.IntN(len(out))
				c.release(out[i])
				c.release(out[i]) // told twice
				out = append(out[:i], out[i+1:]...)
			}
			for _, id := range c.next() {
				turn, ok := waiting[id]
				if !ok {
					t.Fatalf("seed %d: %s had a turn and was not waiting", seed, id)
				}
				delete(waiting, id)
				out = append(out, id)
				for _, other := range waiting {
					before := other.priority > turn.priority || other.priority == turn.priority && other.id.Run < turn.id.Run
					for name := range turn.takes {
						if before && other.takes[name] > 0 {
							t.Fatalf("seed %d: %s was overtaken by %s at %s", seed, other.id, id, name)
						}
					}
				}
			}
			for _, name := range names {
				if c.inUse[name] > c.units[name] || c.inUse[name] < 0 {
					t.Fatalf("seed %d: %d of %d units of %s are in use", seed, c.inUse[name], c.units[name], name)
				}
			}
			if left == 0 && len(out) == 0 && len(waiting) > 0 {
				t.Fatalf("seed %d: %d wait for ever", seed, len(waiting))
			}
		}
		for _, name := range names {
			if c.inUse[name] != 0 {
				t.Fatalf("seed %d: %d units of %s are in use by nobody", seed, c.inUse[name], name)
			}
		}
	}
}

func TestALedgerThatIsNotOpenSendsNothing(t *testing.T) {
	c := newLedger()
	c.units["store"] = 1
	c.queue(waiter{id: dispatch.AttemptID{Run: 1, Attempt: 1}, takes: map[string]int{"store": 1}})
	if turns := c.next(); len(turns) != 0 {
		t.Errorf("before the workers have told what they know: %v", turns)
	}
	c.open = true
	if turns := c.next(); len(turns) != 1 {
		t.Errorf("afterwards: %v", turns)
	}
}

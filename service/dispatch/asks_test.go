package dispatch

import (
	"fmt"
	"math/rand/v2"
	"testing"
)

// server answers asks as JetStream does.
type server struct {
	a        *asks
	orders   []int // that stand in each queue
	standing []ask
	got      int
}

func (s *server) ask(all []ask) {
	for _, one := range all {
		switch {
		case s.orders[one.queue] > 0:
			s.give(one)
		case one.now:
			s.a.over("404", fmt.Sprintf("_INBOX.x.%d", one.number))
		default:
			s.standing = append(s.standing, one)
		}
	}
}

func (s *server) give(one ask) {
	s.orders[one.queue]--
	s.got++
	s.a.came(subjectOrders + s.a.queues[one.queue] + ".1.2.1")
}

// put puts an order into a queue, which goes to the first that waits for one.
func (s *server) put(queue int) {
	s.orders[queue]++
	for i, one := range s.standing {
		if one.queue == queue {
			s.standing = append(s.standing[:i:i], s.standing[i+1:]...)
			s.give(one)
			return
		}
	}
}

// A worker of several queues gets an order at once whichever queue it comes to, and never
// more than it wants but for what it had asked for before, one of each queue; as many as it wants come if they are
// there, from all queues alike.
func TestAsks(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 0))
		queues := []string{"a", "b", "c", "d"}[:1+r.IntN(4)]
		s := &server{a: newAsks(queues), orders: make([]int, len(queues))}
		slots := 1 + r.IntN(6)
		free := slots
		settle := func() { // asks and is answered until nothing more happens
			for range 100 {
				more := s.a.more(free - s.got)
				if len(more) == 0 {
					return
				}
				s.ask(more)
			}
			t.Fatalf("seed %d: it asks for ever", seed)
		}
		for range 200 {
			switch r.IntN(3) {
			case 0, 1:
				s.put(r.IntN(len(queues)))
			default:
				free = r.IntN(slots + 1)
				s.got = 0 // what it got is begun, or went back
			}
			settle()
			stand := 0
			for _, n := range s.orders {
				stand += n
			}
			if s.got < free && stand > 0 {
				t.Fatalf("seed %d: %d of %d orders came, and %v stand there", seed, s.got, free, s.orders)
			}
			most := len(queues)
			if most == 1 {
				most = slots // it had asked for so many
			}
			if over := s.got - free; over > most {
				t.Fatalf("seed %d: %d orders came that nobody wanted", seed, over)
			}
		}
	}
}

// With work in both queues, none is preferred and nothing comes that was not wanted.
func TestAsksOfTwoBusyQueues(t *testing.T) {
	s := &server{a: newAsks([]string{"a", "b"}), orders: []int{50, 50}}
	for range 50 {
		s.got = 0
		for more := s.a.more(1); len(more) > 0; more = s.a.more(1 - s.got) {
			s.ask(more)
		}
		if s.got != 1 {
			t.Fatalf("%d orders came for a slot", s.got)
		}
	}
	if s.orders[0] != 25 || s.orders[1] != 25 {
		t.Errorf("%v orders stand in the queues", s.orders)
	}
}

// What nobody is there to answer is not asked again at once.
func TestAsksThatNobodyAnswers(t *testing.T) {
	a := newAsks([]string{"a"})
	all := a.more(2)
	for _, one := range all {
		a.over(nobodyThere, fmt.Sprintf("_INBOX.x.%d", one.number))
	}
	if more := a.more(2); len(all) != 2 || len(more) != 0 {
		t.Errorf("asked %d times, and again %d times", len(all), len(more))
	}
}

package dispatch

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// How long the service is asked to wait for an order, where a worker takes from one queue
// and where from several: then it may still have an order come when its slots are taken
// by others.
const (
	pullFor          = 5 * time.Second
	pullForOfSeveral = time.Second
)

// asks are what a worker has asked its queues for and has not got, one order each.
//
// Of one queue it asks for as many as it wants, and has the service wait until they are
// there. Of several it asks one after the other for what is there now; when none has
// anything, it has the service wait for one order of each, so that the next one comes at
// once, whichever queue it is in.
type asks struct {
	queues []string
	out    map[int]ask // by number
	none   []bool      // of each queue, whether it had nothing when it was asked last
	number int
	next   int // the queue that is asked next
}

type ask struct {
	number int
	queue  int
	now    bool      // for what is there now
	until  time.Time // it is answered by then, or the answer was lost
}

func newAsks(queues []string) *asks {
	return &asks{queues: queues, out: map[int]ask{}, none: make([]bool, len(queues))}
}

// more is what else is to be asked for, for that many orders to come.
func (a *asks) more(wanted int) (more []ask) {
	if wanted <= 0 {
		clear(a.none) // it is too old to tell anything when an order is wanted again
		return nil
	}
	if len(a.queues) == 1 {
		for len(a.out) < wanted {
			more = append(more, a.add(0, false, pullFor))
		}
		return more
	}
	coming, standing := 0, make([]bool, len(a.queues))
	for _, one := range a.out {
		if one.now {
			coming++
		} else {
			standing[one.queue] = true
		}
	}
	for ; coming < wanted && slices.Contains(a.none, false); coming++ {
		for a.none[a.next] {
			a.next = (a.next + 1) % len(a.queues)
		}
		more = append(more, a.add(a.next, true, 0))
		a.next = (a.next + 1) % len(a.queues)
	}
	if coming == 0 {
		for q := range a.queues {
			if !standing[q] {
				more = append(more, a.add(q, false, pullForOfSeveral))
			}
		}
	}
	return more
}

func (a *asks) add(queue int, now bool, wait time.Duration) ask {
	a.number++
	one := ask{a.number, queue, now, time.Now().Add(wait)}
	a.out[one.number] = one
	return one
}

// subject is where one is asked, and body what is asked (NATS, JetStream API reference,
// CONSUMER.MSG.NEXT).
func (a *asks) subject(one ask) string {
	return "$JS.API.CONSUMER.MSG.NEXT." + ordersStream + "." + a.queues[one.queue]
}

func (one ask) body() []byte {
	if one.now {
		return []byte(`{"batch":1,"no_wait":true}`)
	}
	return fmt.Appendf(nil, `{"batch":1,"expires":%d}`, time.Until(one.until).Nanoseconds())
}

// came notes an order that has come, by its subject: it answers the oldest that was asked
// of its queue for what is there now, or else the oldest of all.
func (a *asks) came(subject string) {
	name, _, _ := strings.Cut(strings.TrimPrefix(subject, subjectOrders), ".")
	queue := slices.Index(a.queues, name)
	if queue < 0 {
		return
	}
	a.none[queue] = false
	var first *ask
	for _, one := range a.out {
		if one.queue == queue && (first == nil || one.now && !first.now || one.now == first.now && one.number < first.number) {
			first = &one
		}
	}
	if first != nil {
		delete(a.out, first.number)
	}
}

// nobodyThere is the status of what nobody is there to answer (NATS, no responders).
const nobodyThere = "503"

// over notes an answer that is no order, by its status and the subject that it was sent
// to, which ends with the number.
func (a *asks) over(status, subject string) {
	number, err := strconv.Atoi(subject[strings.LastIndexByte(subject, '.')+1:])
	one, ok := a.out[number]
	switch {
	case err != nil || !ok:
	case status == nobodyThere: // it would answer again at once: it is asked when this one is late
		one.until = time.Now()
		a.out[number] = one
	default:
		delete(a.out, number)
		if one.now {
			a.none[one.queue] = true
		}
	}
}

// late forgets what was asked so long ago that the answer was lost.
func (a *asks) late() {
	for number, one := range a.out {
		if time.Since(one.until) > time.Second {
			delete(a.out, number)
		}
	}
}

// forget forgets all: it is not answered any more.
func (a *asks) forget() {
	clear(a.out)
	clear(a.none)
}

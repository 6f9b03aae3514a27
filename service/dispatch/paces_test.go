package dispatch_test

import (
	"context"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"wiselantern/service/dispatch"
)

// Workers of several queues whose attempts are now short and now long fetch ahead, give back
// and take over from each other; one of them leaves and others come. Each order is executed
// once, and none vanishes.
func TestOrdersBetweenWorkersOfManyPaces(t *testing.T) {
	p := newPlace(t, 0)
	p.again = func(id dispatch.AttemptID) { t.Errorf("order %v had vanished", id) }
	r := rand.New(rand.NewPCG(1, 2))
	const many = 1500
	lasts := make([]time.Duration, many) // stretches of short attempts, and of long ones
	for n := range lasts {
		lasts[n] = time.Duration(r.IntN(3)) * time.Millisecond
		if n/100%3 == 2 && r.IntN(6) == 0 {
			lasts[n] = time.Duration(60+r.IntN(120)) * time.Millisecond
		}
	}
	var taken tally
	var group sync.WaitGroup
	work := func(ctx context.Context, name string, queues ...string) {
		c, _ := p.courier(name, queues...)
		for range 2 {
			group.Go(func() {
				taken.works(ctx, c, func(o dispatch.Order) {
					began := time.Now()
					time.Sleep(lasts[o.Run])
					report := succeeded(o, name)
					report.Started, report.At = began, time.Now()
					group.Go(func() { _ = c.Ended(t.Context(), report) })
				})
			})
		}
	}
	all, stop := context.WithCancel(t.Context())
	work(all, "a", "main")
	work(all, "b", "main", "deep")
	some, leave := context.WithCancel(t.Context())
	defer leave()
	work(some, "c", "deep", "main")
	for n := range int64(many) {
		o := anOrder(n)
		o.Queue = []string{"main", "main", "deep"}[r.IntN(3)]
		o.Later = r.IntN(10) == 0
		p.send(o)
		switch {
		case n == many/3:
			leave() // it takes no more; what it has fetched goes back
		case n == many/2:
			work(all, "d", "deep")
		case n%50 == 0:
			time.Sleep(time.Duration(r.IntN(60)) * time.Millisecond)
		}
	}
	p.recorded(many)
	stop()
	group.Wait()
	p.once(taken.got, 0, many)
}

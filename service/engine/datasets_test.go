package engine

import (
	"math/rand/v2"
	"testing"
	"time"

	"wiselantern/service/store"
)

// Updates cover a window exactly when every moment of it lies in one of them; and what
// is said to be missing is missing.
func TestUpdatesThatCoverAWindow(t *testing.T) {
	draw := rand.New(rand.NewPCG(3, 4))
	at := func(n int) store.Moment { return store.At(time.UnixMicro(int64(n + 1))) }
	covered, open := 0, 0
	for range 5000 {
		start := draw.IntN(10)
		end := start + 1 + draw.IntN(10)
		var all []store.Update
		has := make([]bool, 40)
		for i := range draw.IntN(12) {
			from := draw.IntN(20)
			to := from + 1 + draw.IntN(6)
			for n := from; n < to; n++ {
				has[n] = true
			}
			all = append(all, store.Update{ID: int64(i + 1), WindowStart: at(from), WindowEnd: at(to)})
		}
		want := true
		for n := start; n < end; n++ {
			want = want && has[n]
		}
		found, missing := covering(all, at(start), at(end))
		if (found != nil) != want {
			t.Fatalf("[%d, %d) is covered: %v, by %+v; found %+v", start, end, want, all, found)
		}
		if !want {
			open++
			if n := int(missing.Start.UnixMicro()) - 1; n < start || n >= end || has[n] {
				t.Fatalf("[%d, %d): said to be missing is %d, of %+v", start, end, n, all)
			}
			continue
		}
		covered++
		last := at(start).Int64
		for _, u := range found {
			if u.WindowStart.Int64 > last || u.WindowEnd.Int64 <= last {
				t.Fatalf("[%d, %d): %+v leave a hole at %d", start, end, found, last)
			}
			last = u.WindowEnd.Int64
		}
	}
	if covered < 100 || open < 100 {
		t.Errorf("%d windows were covered and %d not: that shows nothing", covered, open)
	}
}

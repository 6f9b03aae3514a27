// Package forecast tells how long things usually take, when what is going
// should end, when that is late, and which way through a graph took the time.
//
// It computes only: no clock, no files. It imports nothing of ours. What it
// keeps true: what it says hangs on nothing but what it is given, and nothing is
// called late by fewer than five earlier successes.
package forecast

import (
	"slices"
	"time"
)

// Usual says how long the recent successes of something took.
type Usual struct {
	Count    int
	Shortest time.Duration
	Median   time.Duration
	P95      time.Duration // 95 of 100 were not longer, by the nearest rank
	Longest  time.Duration
}

// Enough is how many successes it takes before something can be late by them.
const Enough = 5

// Summarise orders durations. Without any, everything is 0.
func Summarise(all []time.Duration) Usual {
	if len(all) == 0 {
		return Usual{}
	}
	sorted := slices.Clone(all)
	slices.Sort(sorted)
	return Usual{Count: len(sorted), Shortest: sorted[0], Median: rank(sorted, 50), P95: rank(sorted, 95), Longest: sorted[len(sorted)-1]}
}

// rank is the nearest-rank percentile of sorted durations.
func rank(sorted []time.Duration, percent int) time.Duration {
	return sorted[(len(sorted)*percent+99)/100-1]
}

// smallestExcess is how much longer than the median something must take before
// it is far longer: short tasks vary by more than their own length.
const smallestExcess = 30 * time.Second

// FarLonger is the duration from which something takes far longer than it
// usually does: half as long again as the longest of the usual, at least twice
// the median, and half a minute more than the median. It is false if too little
// is known.
func (u Usual) FarLonger() (time.Duration, bool) {
	if u.Count < Enough {
		return 0, false
	}
	return max(u.P95+u.P95/2, 2*u.Median, u.Median+smallestExcess), true
}

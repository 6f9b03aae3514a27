package calendar

const (
	day = 24 * 60 * 60
	// mondayEpoch is 2000-01-03T00:00 on the wall, a Monday, from which steps
	// longer than a day are counted.
	mondayEpoch = 946857600
)

// steps is due at each multiple of seconds, counted from midnight if that comes
// out even and from mondayEpoch if not.
type steps struct{ seconds int64 }

func (s steps) after(w int64) (int64, bool) {
	return mondayEpoch + (floorDiv(w-mondayEpoch, s.seconds)+1)*s.seconds, true
}

func (s steps) before(w int64) (int64, bool) {
	return mondayEpoch + floorDiv(w-mondayEpoch-1, s.seconds)*s.seconds, true
}

// repeats is true for steps that fit into an hour: they have no hour to name.
func (s steps) repeats() bool { return s.seconds <= 60*60 }

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

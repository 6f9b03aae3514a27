package definition

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Length is a length of time as people write it: 250ms, 90s, 1h30m, 2d, 1w. A
// day has 24 hours and a week seven days.
type Length time.Duration

var lengthUnits = []struct {
	name string
	size time.Duration
}{
	{"w", 7 * 24 * time.Hour}, {"d", 24 * time.Hour}, {"h", time.Hour}, {"ms", time.Millisecond},
	{"m", time.Minute}, {"s", time.Second},
}

// ParseLength reads a length of time, not negative and at most 292 years.
func ParseLength(text string) (Length, error) {
	wrong := fmt.Errorf("%q is not a length of time; write a number and a unit (ms, s, m, h, d or w), as in 90s or 1h30m", text)
	rest := text
	var total float64
	for rest != "" {
		digits := len(rest) - len(strings.TrimLeft(rest, "0123456789."))
		amount, err := strconv.ParseFloat(rest[:digits], 64)
		if err != nil {
			return 0, wrong
		}
		rest = rest[digits:]
		found := false
		for _, unit := range lengthUnits {
			if after, ok := strings.CutPrefix(rest, unit.name); ok {
				total += amount * float64(unit.size)
				rest, found = after, true
				break
			}
		}
		if !found {
			return 0, wrong
		}
	}
	if text == "" || total >= math.MaxInt64 {
		return 0, wrong
	}
	return Length(total), nil
}

// Duration is the length in nanoseconds.
func (l Length) Duration() time.Duration { return time.Duration(l) }

// String is the length in the largest units that come out even: 1h30m, 90s as
// 1m30s, 2d.
func (l Length) String() string {
	if l == 0 {
		return "0s"
	}
	var out strings.Builder
	rest := time.Duration(l)
	for _, unit := range []struct {
		name string
		size time.Duration
	}{{"d", 24 * time.Hour}, {"h", time.Hour}, {"m", time.Minute}, {"s", time.Second}, {"ms", time.Millisecond}} {
		if n := rest / unit.size; n > 0 {
			fmt.Fprintf(&out, "%d%s", n, unit.name)
			rest -= n * unit.size
		}
	}
	return out.String()
}

// MarshalText writes the length as String does.
func (l Length) MarshalText() ([]byte, error) { return []byte(l.String()), nil }

// UnmarshalText reads what ParseLength reads.
func (l *Length) UnmarshalText(text []byte) (err error) {
	*l, err = ParseLength(string(text))
	return err
}

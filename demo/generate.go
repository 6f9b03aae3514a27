package demo

import (
	"fmt"
	"hash/fnv"
	"math"
	"math/rand/v2"
	"strings"
	"time"
)

// station is one gauge of the network.
type station struct {
	code        string
	mean, swing float64 // of its level, in metres
	a, b        float64 // flow = a * level^b, in m³/s
	phase       float64
}

var stations = []station{
	{"G01", 2.2, 0.5, 2.1, 1.6, 0.0},
	{"G02", 1.8, 0.4, 1.4, 1.8, 0.4},
	{"G03", 1.3, 0.4, 0.9, 1.7, 0.9},
	{"G04", 2.9, 0.6, 3.0, 1.5, 1.3},
	{"G05", 2.3, 0.5, 1.9, 1.6, 1.8},
	{"G06", 1.5, 0.4, 1.2, 1.9, 2.2},
}

// seed makes the readings the same wherever and whenever they are made.
const seed = 20260328

// Hour is the file of readings of the hour that begins at start (UTC), and
// whether its mast sends it only when it is asked twice. The readings depend on
// the hour alone; now only says which date has the renamed column.
//
// The faults are those of real networks: about one file in seven is late; some
// have a broken line; a gauge is stuck for some hours; a station reports twice;
// on one date a column has another name.
func Hour(start, now time.Time) (text string, late bool) {
	name := fnv.New64a()
	fmt.Fprint(name, start.Unix())
	random := rand.New(rand.NewPCG(seed, name.Sum64()))
	late = random.IntN(7) == 0
	broken := random.IntN(4) == 0
	doubled := random.IntN(6) == 0
	brokenAt := random.IntN(len(stations) * 6)

	var out strings.Builder
	level := "level_m"
	if start.Format(time.DateOnly) == now.UTC().AddDate(0, 0, -1).Format(time.DateOnly) {
		level = "stage_m"
	}
	fmt.Fprintf(&out, "time,station,%s,flow_m3s,battery_v\n", level)
	line := 0
	for minute := 0; minute < 60; minute += 10 {
		at := start.Add(time.Duration(minute) * time.Minute)
		for i, s := range stations {
			row := fmt.Sprintf("%s,%s,%s\n", at.Format("2006-01-02T15:04Z"), s.code, s.reading(at, i, random))
			if broken && line == brokenAt {
				row = row[:len(row)/2] + "\n"
			}
			out.WriteString(row)
			if doubled && s.code == "G06" {
				out.WriteString(row)
			}
			line++
		}
	}
	return out.String(), late
}

// reading is the level, the flow and the battery of a station at that moment.
func (s station) reading(at time.Time, i int, random *rand.Rand) string {
	days := float64(at.Unix()) / (24 * 60 * 60)
	// Two slow waves of weather, a flood every eleven days that travels down the
	// river, and a little noise.
	flood := math.Exp(-math.Pow(math.Mod(days+11-s.phase/4, 11)-5, 2) * 3)
	level := s.mean + s.swing*(0.6*math.Sin(days*2+s.phase)+0.4*math.Sin(days*0.7)) + 2.2*s.swing*flood + random.Float64()*0.04
	if s.code == "G04" && at.Unix()/(3600*8)%5 == 2 { // its float hangs for eight hours
		level = s.mean + s.swing/2
	}
	battery := 12.6 - 0.9*math.Mod(days/9+float64(i)/6, 1) + 0.1*random.Float64()
	return fmt.Sprintf("%.2f,%.2f,%.1f", level, s.a*math.Pow(level, s.b), battery)
}

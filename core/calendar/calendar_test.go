package calendar

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"
)

func zone(t *testing.T, name string) *time.Location {
	t.Helper()
	z, err := time.LoadLocation(name)
	if err != nil {
		t.Fatal(err)
	}
	return z
}

// rule reads "every 1h" or "cron 5 * * * *".
func rule(t *testing.T, text, where string) Rule {
	t.Helper()
	word, rest, _ := strings.Cut(text, " ")
	var r Rule
	var err error
	if word == "every" {
		step, parseErr := time.ParseDuration(rest)
		if parseErr != nil {
			t.Fatal(parseErr)
		}
		r, err = Every(step, zone(t, where))
	} else {
		r, err = Cron(rest, zone(t, where))
	}
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	return r
}

func TestDueMomentsInHardNights(t *testing.T) {
	cases := []struct{ name, rule, zone, after, wanted string }{
		{"an hour that the clock jumps over is due at the jump", "cron 30 2 * * *", "Europe/Oslo",
			"2026-03-28T12:00:00+01:00", "2026-03-29T03:00:00+02:00 2026-03-30T02:30:00+02:00"},
		{"a named hour shown twice is due once, the first time", "cron 30 2 * * *", "Europe/Oslo",
			"2026-10-24T12:00:00+02:00", "2026-10-25T02:30:00+02:00 2026-10-26T02:30:00+01:00"},
		{"an open hour shown twice is due each time", "cron 30 * * * *", "Europe/Oslo",
			"2026-10-25T01:00:00+02:00", "2026-10-25T01:30:00+02:00 2026-10-25T02:30:00+02:00 2026-10-25T02:30:00+01:00 2026-10-25T03:30:00+01:00"},
		{"every hour has 23 windows in the short night", "every 1h", "Europe/Oslo",
			"2026-03-29T00:30:00+01:00", "2026-03-29T01:00:00+01:00 2026-03-29T03:00:00+02:00 2026-03-29T04:00:00+02:00"},
		{"every six hours keeps to the wall clock", "every 6h", "Europe/Oslo",
			"2026-03-28T23:00:00+01:00", "2026-03-29T00:00:00+01:00 2026-03-29T06:00:00+02:00 2026-03-29T12:00:00+02:00"},
		{"every day where midnight does not exist", "every 24h", "America/Sao_Paulo",
			"2018-11-03T12:00:00-03:00", "2018-11-04T01:00:00-02:00 2018-11-05T00:00:00-02:00"},
		{"a change of thirty minutes", "every 1h", "Australia/Lord_Howe",
			"2026-10-04T00:30:00+10:30", "2026-10-04T01:00:00+10:30 2026-10-04T02:30:00+11:00 2026-10-04T03:00:00+11:00"},
		{"a day that a country skipped is due at its end", "every 24h", "Pacific/Apia",
			"2011-12-28T12:00:00-10:00", "2011-12-29T00:00:00-10:00 2011-12-31T00:00:00+14:00 2012-01-01T00:00:00+14:00"},
		{"29 February", "cron 0 0 29 2 *", "UTC", "2026-01-01T00:00:00Z", "2028-02-29T00:00:00Z 2032-02-29T00:00:00Z"},
		{"either day matches when both are restricted", "cron 0 0 13 * fri", "UTC",
			"2026-02-10T00:00:00Z", "2026-02-13T00:00:00Z 2026-02-20T00:00:00Z 2026-02-27T00:00:00Z 2026-03-06T00:00:00Z 2026-03-13T00:00:00Z"},
		{"names and steps", "cron */20 6-7 * jan mon", "UTC",
			"2026-01-05T06:10:00Z", "2026-01-05T06:20:00Z 2026-01-05T06:40:00Z 2026-01-05T07:00:00Z"},
		{"seven is Sunday", "cron 0 12 * * 7", "UTC", "2026-11-23T00:00:00Z", "2026-11-29T12:00:00Z"},
		{"a week starts on Monday", "every 168h", "UTC", "2026-11-24T00:00:00Z", "2026-11-30T00:00:00Z"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			r := rule(t, c.rule, c.zone)
			at, err := time.Parse(time.RFC3339, c.after)
			if err != nil {
				t.Fatal(err)
			}
			for wanted := range strings.FieldsSeq(c.wanted) {
				got, ok := r.After(at)
				if !ok || got.Format(time.RFC3339) != wanted {
					t.Fatalf("after %s: got %s, want %s", at.Format(time.RFC3339), got.Format(time.RFC3339), wanted)
				}
				at = got
			}
		})
	}
}

// Windows partition time: each starts where the one before it ended, in every
// zone, through every change of the clock.
func TestWindowsHaveNoGapAndNoOverlap(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	rules := []string{"every 1m", "every 15m", "every 1h", "every 6h", "every 7h", "every 24h", "every 168h",
		"cron */10 6-7 * * *", "cron 30 2 * * *", "cron 0 * * * *", "cron 15 1-3 * * sun", "cron 0 0 1 * *"}
	zones := []string{"UTC", "Europe/Oslo", "America/Sao_Paulo", "Australia/Lord_Howe", "Pacific/Apia", "Asia/Tehran", "America/St_Johns", "Africa/Casablanca"}
	for _, text := range rules {
		for _, name := range zones {
			r := rule(t, text, name)
			for range 20 {
				at := time.Unix(946684800+random.Int64N(40*365*day), random.Int64N(1e9))
				if random.IntN(2) == 0 { // close to a change of the clock, where there is one
					if _, end := at.In(r.Zone()).ZoneBounds(); !end.IsZero() {
						at = end.Add(time.Duration(random.Int64N(int64(6*time.Hour))) - 3*time.Hour)
					}
				}
				due, _ := r.After(at)
				for range 6 {
					next, ok := r.After(due)
					if !ok || !next.After(due) {
						t.Fatalf("%s: after %s came %s", r, due, next)
					}
					window, ok := r.Window(next)
					if !ok || !window.Start.Equal(due) || !window.End.Equal(next) {
						t.Fatalf("%s: the window due at %s is %s to %s, want it to start at %s", r, next, window.Start, window.End, due)
					}
					due = next
				}
			}
		}
	}
}

// The cron reader agrees with looking at the clock on the wall each minute.
func TestCronAgreesWithLookingEachMinute(t *testing.T) {
	// Eight years, with two 29ths of February and all changes of six clocks.
	texts := []string{"*/7 * * * *", "5 4 * * *", "0 0,12 1 */2 *", "23 0-20/2 * * mon-fri", "15 14 1 * sun", "30 2 * * *", "0 0 29 2 *", "45 1-3 * 3,10,11 sun"}
	zones := []string{"UTC", "Asia/Kolkata", "Europe/Oslo", "America/Sao_Paulo", "Australia/Lord_Howe", "America/St_Johns", "Pacific/Apia"}
	for i, text := range texts {
		for _, name := range []string{zones[i%len(zones)], zones[(i+3)%len(zones)]} {
			r := rule(t, "cron "+text, name)
			fields, _ := parseCron(text)
			next, _ := r.After(time.Date(2009, 1, 1, 0, 0, 0, 0, r.Zone()).Add(-time.Second))
			lookEachMinute(r, fields, 2009, 2017, func(at time.Time) {
				if !next.Equal(at) {
					t.Fatalf("%s: by the clock it is due at %s, and the rule says %s", r, at, next)
				}
				next, _ = r.After(at)
			})
		}
	}
}

// lookEachMinute walks along the clock on the wall of a rule's zone, minute by
// minute from one year to another, and tells when the fields of cron match: at the
// end of a jump for what it passed over, and in a repeated hour once, unless the
// hour is left open.
func lookEachMinute(r Rule, fields cron, from, to int, due func(time.Time)) {
	at := time.Date(from, 1, 1, 0, 0, 0, 0, r.Zone())
	end := time.Date(to, 1, 1, 0, 0, 0, 0, r.Zone())
	wall := func(t time.Time) int64 {
		_, offset := t.Zone()
		return t.Unix() + int64(offset)
	}
	match := func(w int64) bool {
		m := time.Unix(w, 0).UTC()
		return fields.minutes&(1<<m.Minute()) != 0 && fields.hours&(1<<m.Hour()) != 0 && fields.matches(m)
	}
	latest := wall(at) - 60 // the latest time that the clock has shown
	for ; at.Before(end); at = at.Add(time.Minute) {
		now := wall(at)
		found := false
		for w := latest + 60; w < now; w += 60 { // the clock has jumped over these
			found = found || match(w)
		}
		if match(now) && (now > latest || fields.anyHour) {
			found = true
		}
		if found {
			due(at)
		}
		latest = max(latest, now)
	}
}

func TestCronSaysWhatIsWrong(t *testing.T) {
	cases := []struct{ text, wanted string }{
		{"* * * *", "has 4 fields; write the five fields"},
		{"0 30 6 * * mon", `without seconds this is "30 6 * * mon"`},
		{"60 * * * *", `the minute field "60" has the value "60"; write a number from 0 to 59`},
		{"* * * foo *", "a name from jan to dec"},
		{"*/0 * * * *", "write a number from 1 to 59"},
		{"* 20-6 * * *", "ends before it starts"},
		{"5/10 * * * *", "write a range before the slash"},
		{"0 0 30 2 *", "is never due"},
		{"0 0 31 4,6,9,11 *", "is never due"},
	}
	for _, c := range cases {
		_, err := parseCron(c.text)
		if err == nil || !strings.Contains(err.Error(), c.wanted) {
			t.Errorf("%q: got %v, want it to say %q", c.text, err, c.wanted)
		}
	}
}

func FuzzCron(f *testing.F) {
	f.Add("*/10 6-7 * * mon-fri")
	f.Add("0 0 29 2 7")
	f.Fuzz(func(t *testing.T, text string) {
		r, err := Cron(text, time.UTC)
		if err != nil {
			return
		}
		at := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
		next, ok := r.After(at)
		if !ok {
			t.Fatalf("%q was accepted and is never due", text)
		}
		if back, ok := r.Before(next.Add(time.Second)); !ok || !back.Equal(next) {
			t.Fatalf("%q: due at %s, but looking back found %s", text, next, back)
		}
	})
}

func ExampleRule_Window() {
	oslo, _ := time.LoadLocation("Europe/Oslo")
	r, _ := Cron("15 6 * * *", oslo)
	due, _ := r.After(time.Date(2026, 3, 28, 12, 0, 0, 0, oslo))
	window, _ := r.Window(due)
	fmt.Println(window.Start.Format(time.RFC3339), window.End.Format(time.RFC3339))
	// Output: 2026-03-28T06:15:00+01:00 2026-03-29T06:15:00+02:00
}

package calendar

import (
	"archive/zip"
	"math/rand/v2"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// What is written, and when it is then due after a moment, with its windows as
// START/END where they matter.
func TestRulesInParts(t *testing.T) {
	oslo := zone(t, "Europe/Oslo")
	weekday := []string{"mon-fri"}
	cases := []struct {
		name, after, wanted string
		spec                Spec
	}{
		{"both ends of between are included", "2026-03-27T05:00:00+01:00", "06:00 06:30 07:00 07:30 08:00 30T06:00",
			Spec{Every: 30 * time.Minute, Between: "06:00..08:00", On: weekday}},
		{"a step that does not come out even ends before", "2026-03-27T05:00:00+01:00", "06:00 06:50 07:40 28T06:00",
			Spec{Every: 50 * time.Minute, Between: "06:00..08:00"}},
		{"between over midnight belongs to the day on which it begins", "2026-03-27T20:00:00+01:00", "22:00 23:00 28T00:00 28T01:00 30T22:00",
			Spec{Every: time.Hour, Between: "22:00..01:00", On: weekday}},
		{"not on holidays", "2026-12-23T12:00:00+01:00", "27T06:00 28T06:00",
			Spec{Cron: "0 6 * * *", Except: []string{"2026-12-24..2026-12-25", "2026-12-26"}}},
		{"not in July", "2026-06-30T00:00:00+02:00", "06:00 2026-08-01T06:00",
			Spec{Cron: "0 6 * * *", Except: []string{"2026-07-01..2026-07-31"}}},
		{"cron between", "2026-03-27T05:00:00+01:00", "06:00 06:20 06:40 07:00 28T06:00",
			Spec{Cron: "*/20 * * * *", Between: "06:00..07:00"}},
		{"from a date, with its first moment", "2026-03-01T00:00:00+01:00", "30T00:00 30T12:00",
			Spec{Every: 12 * time.Hour, From: "2026-03-30"}},
		{"until a date, with its last moment", "2026-03-27T20:00:00+01:00", "23:59 -",
			Spec{Cron: "59 23 * * *", Until: "2026-03-27"}},
		{"until a moment, included", "2026-03-27T20:00:00+01:00", "21:00 22:00 -",
			Spec{Every: time.Hour, Until: "2026-03-27T22:00"}},
		{"the last Friday of the month", "2026-03-01T00:00:00+01:00", "27T06:30 2026-04-24T06:30",
			Spec{RRule: "FREQ=MONTHLY;BYDAY=-1FR;BYHOUR=6;BYMINUTE=30"}},
		{"every other week from a date", "2026-03-01T00:00:00+01:00", "04T00:00 18T00:00 2026-04-01T00:00",
			Spec{RRule: "FREQ=WEEKLY;INTERVAL=2", From: "2026-03-04"}},
		{"week 53", "2026-01-01T00:00:00+01:00", "2026-12-28T00:00 2027-01-03T00:00 2032-12-27T00:00",
			Spec{RRule: "FREQ=YEARLY;BYWEEKNO=53;BYDAY=MO,SU"}},
		{"a rule that comes five times", "2026-03-01T00:00:00+01:00", "02T00:00 03T00:00 -",
			Spec{RRule: "FREQ=DAILY;COUNT=3", From: "2026-03-01"}},
		{"a few moments", "2026-03-01T00:00:00+01:00", "05T06:00 29T03:30 -",
			Spec{At: []string{"2026-03-29T01:30:00Z", "2026-03-05T06:00"}}},
		{"a delay", "2026-03-27T05:50:00+01:00", "06:15=05:00/06:00 07:15=06:00/07:00",
			Spec{Every: time.Hour, Delay: 15 * time.Minute}},
		{"a window of the last whole day", "2026-03-28T07:00:00+01:00", "29T06:20=28T00:00/29T00:00 30T06:20=29T00:00/30T00:00",
			Spec{Cron: "20 6 * * *", Covers: Covers{Unit: "day"}}},
		{"of the last whole week", "2026-03-27T07:00:00+01:00", "30T06:00=23T00:00/30T00:00",
			Spec{Cron: "0 6 * * mon", Covers: Covers{Unit: "week"}}},
		{"of the last whole month", "2026-03-27T07:00:00+01:00", "2026-04-02T06:00=01T00:00/2026-04-01T00:00",
			Spec{Cron: "0 6 2 * *", Covers: Covers{Unit: "month"}}},
		{"of a day that ends two hours before", "2026-03-28T07:00:00+01:00", "29T06:00=28T04:00/29T04:00",
			Spec{Cron: "0 6 * * *", Covers: Covers{Days: 1, Ends: -2 * time.Hour}}},
		{"in the repeated hour, each time", "2026-10-25T01:10:00+02:00", "2026-10-25T01:30:00+02:00 2026-10-25T02:00:00+02:00 2026-10-25T02:30:00+02:00 2026-10-25T02:00:00+01:00 2026-10-25T02:30:00+01:00 26T01:00",
			Spec{Every: 30 * time.Minute, Between: "01:00..02:30"}},
		{"in the hour that is jumped over, at the jump", "2026-03-28T12:00:00+01:00", "29T03:00 30T02:15 30T02:30",
			Spec{Every: 15 * time.Minute, Between: "02:15..02:30"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			c.spec.Zone = oslo
			r, err := New(c.spec)
			if err != nil {
				t.Fatal(err)
			}
			at, err := time.Parse(time.RFC3339, c.after)
			if err != nil {
				t.Fatal(err)
			}
			short := func(m time.Time) string { return m.In(oslo).Format("2006-01-02T15:04:05-07:00") }
			// ends tells whether the short form of the wish is that of the moment.
			is := func(m time.Time, wish string) bool {
				full := short(m)
				if len(wish) > len("2026-03-28T06:00") {
					return full == wish
				}
				return strings.HasSuffix(full[:len("2026-03-28T06:00")], wish)
			}
			for wanted := range strings.FieldsSeq(c.wanted) {
				due, ok := r.After(at)
				if wanted == "-" {
					if ok {
						t.Fatalf("it is due again, at %s", short(due))
					}
					break
				}
				moment, window, _ := strings.Cut(wanted, "=")
				if !ok || !is(due, moment) {
					t.Fatalf("after %s: got %s, want %s", short(at), short(due), moment)
				}
				if back, ok := r.Before(due.Add(time.Second)); !ok || !back.Equal(due) {
					t.Fatalf("looking back from %s found %s", short(due), short(back))
				}
				if window != "" {
					start, end, _ := strings.Cut(window, "/")
					if w, ok := r.Window(due); !ok || !is(w.Start, start) || !is(w.End, end) {
						t.Fatalf("the window is %s to %s, want %s", short(w.Start), short(w.End), window)
					}
				}
				at = due
			}
		})
	}
}

func TestPartsThatAreWrong(t *testing.T) {
	for _, c := range []struct {
		spec Spec
		want string
	}{
		{Spec{}, "exactly one of every, cron, rrule and at"},
		{Spec{Every: time.Hour, Cron: "0 6 * * *"}, "exactly one of"},
		{Spec{Every: time.Hour, Between: "6..8"}, `between "6..8" is not two times of day; write it as 06:00..08:00`},
		{Spec{Every: 48 * time.Hour, Between: "06:00..08:00"}, "does not come within the times of one day"},
		{Spec{Every: time.Hour, On: []string{"monday"}}, `on "monday" is no day of the week`},
		{Spec{Every: time.Hour, From: "soon"}, `from: "soon" is neither a date nor a moment`},
		{Spec{Every: time.Hour, From: "2026-03-02", Until: "2026-03-01"}, "until 2026-03-01 lies before from 2026-03-02; swap the two"},
		{Spec{Every: time.Hour, Except: []string{"christmas"}}, `except "christmas" is no date`},
		{Spec{Every: time.Hour, Except: []string{"2026-07-31..2026-07-01"}}, "ends before it begins; swap the two"},
		{Spec{Cron: "0 6 * * *", Between: "07:00..08:00"}, "is never due"},
		{Spec{Cron: "0 6 1 3 *", From: "2026-01-01", Until: "2026-02-01"}, "is never due"},
		{Spec{RRule: "FREQ=MONTHLY;BYMONTHDAY=31;BYMONTH=2"}, "is never due"},
		{Spec{RRule: "FREQ=HOURLY"}, "repeats within a day"},
		{Spec{RRule: "FREQ=SOMETIMES"}, "write it as FREQ="},
		{Spec{RRule: "FREQ=DAILY;BYHOUR=0,1,2,3,4,5,6,7,8,9,10,11,12;BYMINUTE=0,10,20,30,40,50"}, "comes more than 200000 times"},
		{Spec{At: []string{"noon"}}, `at: "noon" is neither`},
		{Spec{Every: time.Hour, Covers: Covers{Unit: "year"}}, `covers "year" is no length`},
		{Spec{Every: time.Hour, Covers: Covers{Ends: time.Hour}}, "not how long it is"},
	} {
		c.spec.Zone = time.UTC
		if _, err := New(c.spec); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%+v: got %v, want %s", c.spec, err, c.want)
		}
	}
}

// zonesThatChange are all zones of the database that comes with Go whose clock
// changes between 2000 and 2040.
func zonesThatChange(t *testing.T) (names []string) {
	t.Helper()
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		t.Fatal(err)
	}
	archive, err := zip.OpenReader(filepath.Join(strings.TrimSpace(string(root)), "lib", "time", "zoneinfo.zip"))
	if err != nil {
		t.Fatal(err)
	}
	defer archive.Close()
	for _, f := range archive.File {
		zone, err := time.LoadLocation(f.Name)
		if err != nil {
			continue // a folder
		}
		_, change := time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC).In(zone).ZoneBounds()
		if !change.IsZero() && change.Year() < 2040 {
			names = append(names, f.Name)
		}
	}
	if len(names) < 200 {
		t.Fatalf("only %d zones have a change", len(names))
	}
	return names
}

// Random rules, alone and together, in zones whose clocks change: moments come in
// order, looking back finds what looking forward found, and the windows of all of
// them together have no gap and no overlap.
func TestWindowsOfSchedulesPartitionTime(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	pick := func(words ...string) string { return words[random.IntN(len(words))] }
	spec := func(zone *time.Location) Spec {
		s := Spec{Zone: zone}
		switch random.IntN(4) {
		case 0:
			s.Cron = pick("*/10 6-7 * * *", "30 2 * * *", "0 * * * *", "15 1-3 * * sun", "0 0 1 * *", "5 4 * * mon-fri")
		case 1:
			s.RRule = pick("FREQ=MONTHLY;BYDAY=-1FR;BYHOUR=2;BYMINUTE=30", "FREQ=WEEKLY;BYDAY=MO,TH", "FREQ=DAILY;INTERVAL=3;BYHOUR=0")
		default:
			s.Every = []time.Duration{15 * time.Minute, time.Hour, 6 * time.Hour, 7 * time.Hour, 24 * time.Hour}[random.IntN(5)]
			if random.IntN(2) == 0 {
				s.Between = pick("06:00..08:00", "22:00..03:00", "00:00..23:59", "02:00..02:00")
			}
		}
		if random.IntN(3) == 0 {
			s.On = []string{pick("mon-fri", "sat-sun", "wed")}
		}
		if random.IntN(4) == 0 {
			s.Except = []string{"2007-01-01..2007-03-01", "2015-12-24", "2031-06-01..2031-06-30"}
		}
		if random.IntN(4) == 0 {
			s.Delay = time.Duration(random.IntN(100)) * time.Minute
		}
		return s
	}
	zones := zonesThatChange(t)
	for i := range 4 * len(zones) {
		zone := zone(t, zones[i%len(zones)])
		var rules []Rule
		delay := time.Duration(0)
		for i := range 1 + random.IntN(3) {
			s := spec(zone)
			if i == 0 {
				delay = s.Delay
			}
			s.Delay = delay // with one delay, the order of being due is that of the windows
			r, err := New(s)
			if err != nil {
				continue // narrowed down to nothing
			}
			rules = append(rules, r)
		}
		schedule := NewSchedule(rules...)
		at := time.Unix(946684800+random.Int64N(39*365*day), 0)
		if _, end := at.In(zone).ZoneBounds(); !end.IsZero() && random.IntN(3) > 0 {
			at = end.Add(time.Duration(random.Int64N(int64(30*time.Hour))) - 15*time.Hour)
		}
		last := schedule.After(at)
		for range 8 {
			if last == nil {
				break
			}
			next := schedule.After(last[0].At)
			if next == nil {
				break
			}
			if len(next) != 1 || !next[0].At.After(last[0].At) || !next[0].Window.Start.Equal(last[0].Window.End) || !next[0].Window.End.Equal(next[0].At.Add(-delay)) {
				t.Fatalf("%v: after %+v came %+v", rules, last, next)
			}
			last = next
		}
	}
}

func TestWindowsOfAStretch(t *testing.T) {
	oslo := zone(t, "Europe/Oslo")
	at := func(text string) time.Time {
		m, err := time.ParseInLocation("2006-01-02 15:04", text, oslo)
		if err != nil {
			t.Fatal(err)
		}
		return m
	}
	hourly, _ := New(Spec{Every: time.Hour, Zone: oslo, Delay: 10 * time.Minute})
	daily, _ := New(Spec{Cron: "20 6 * * *", Covers: Covers{Unit: "day"}, Zone: oslo})
	for _, c := range []struct {
		name        string
		schedule    Schedule
		from, until string
		limit, want int
		more        bool
	}{
		{"the short day has 23 hours", NewSchedule(hourly), "2026-03-29 00:00", "2026-03-30 00:00", 100, 23, false},
		{"the long one 25", NewSchedule(hourly), "2026-10-25 00:00", "2026-10-26 00:00", 100, 25, false},
		{"a month of days", NewSchedule(daily), "2026-03-01 00:00", "2026-04-01 00:00", 100, 31, false},
		{"what begins before and ends within counts", NewSchedule(hourly), "2026-03-28 00:30", "2026-03-28 01:30", 100, 2, false},
		{"no more than asked for", NewSchedule(hourly), "2026-03-28 00:00", "2026-03-29 00:00", 7, 7, true},
		{"ten years of hours", NewSchedule(hourly), "2016-01-01 00:00", "2026-01-01 00:00", 100_000, 87672, false},
		{"nothing", NewSchedule(hourly), "2026-03-28 00:00", "2026-03-28 00:00", 100, 0, false},
		{"no rule", NewSchedule(), "2026-03-28 00:00", "2026-03-29 00:00", 100, 0, false},
	} {
		got, more := c.schedule.Windows(at(c.from), at(c.until), c.limit)
		if len(got) != c.want || more != c.more {
			t.Errorf("%s: %d windows, %v; want %d, %v", c.name, len(got), more, c.want, c.more)
		}
	}
}

func BenchmarkAfter(b *testing.B) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		b.Fatal(err)
	}
	for name, spec := range map[string]Spec{
		"every":   {Every: 15 * time.Minute},
		"cron":    {Cron: "*/10 6-7 * * mon-fri"},
		"between": {Every: 10 * time.Minute, Between: "06:00..08:00", On: []string{"mon-fri"}, Except: []string{"2026-12-24..2026-12-26"}},
		"rrule":   {RRule: "FREQ=MONTHLY;BYDAY=-1FR;BYHOUR=6"},
	} {
		spec.Zone = oslo
		r, err := New(spec)
		if err != nil {
			b.Fatal(err)
		}
		b.Run(name, func(b *testing.B) {
			begin := time.Date(2026, 1, 1, 0, 0, 0, 0, oslo)
			at, ok := begin, true
			for b.Loop() {
				if at, ok = r.After(at); !ok || at.Year() > 2040 {
					at = begin
				}
			}
		})
	}
}

package trouble

import (
	"slices"
	"strings"
	"testing"
)

func TestTheSameMistakeOnTwoNightsIsOneTrouble(t *testing.T) {
	for _, same := range [][2]string{
		{"exit code 1: nobody has measured G05 yet", "exit code 1: nobody has measured G11 yet"},
		{"exit code 2: 2026-03-28T06:00:00Z: 14 rows, expected 15", "exit code 2: 2026-03-29T07:15:30.5+02:00: 3 rows, expected 15"},
		{"open /srv/in/2026/a.csv: no such file or directory", "open /srv/in/2027/b.csv: no such file or directory"},
		{"the run gauge-hourly:412 came out failed", "the run gauge-hourly:7 came out failed"},
		{"GET http://10.0.0.1:80/a?x=1 answered 503", "GET https://partner.example/b answered 503"},
		{"id 3fa85f64-5717-4562-b3fc-2c963f66afa6 twice", "id 11111111-5717-4562-b3fc-2c963f66afa6 twice"},
		{"over its\n  timeout of 10m0s", "over its timeout of 5m0s"},
	} {
		if a, b := Normalise(same[0]), Normalise(same[1]); a != b {
			t.Errorf("%q and %q are told apart", a, b)
		}
	}
	for _, other := range [][2]string{
		{"exit code 1", "exit code 2"},
		{"exit code 1: no gauge", "exit code 1: no basin"},
		{"connection refused", "connection reset"},
	} {
		if Normalise(other[0]) == Normalise(other[1]) {
			t.Errorf("%q and %q are taken for the same", other[0], other[1])
		}
	}
	a := Fingerprint("gauge-hourly", "load", "exit code 1: 3 rows")
	if b := Fingerprint("gauge-hourly", "load", "exit code 1: 4 rows"); a != b || len(a) != 12 {
		t.Errorf("%s, %s", a, b)
	}
	if Fingerprint("gauge-hourly", "split", "exit code 1: 3 rows") == a || Fingerprint("gauge-daily", "load", "exit code 1: 3 rows") == a {
		t.Error("another task or workflow is the same trouble")
	}
}

func FuzzNormalise(f *testing.F) {
	for _, text := range []string{"", "exit code 1", "exit code \xff", strings.Repeat("ü/", 3000), "a:1 10:00 0xff <number>"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		once := Normalise(text)
		if strings.ContainsAny(once, "\n\r") {
			t.Errorf("%q has several lines", once)
		}
	})
}

func TestHintsOfWhatProgramsSay(t *testing.T) {
	for _, c := range []struct {
		seen Seen
		kind string
	}{
		{Seen{Error: "exit code 127: sh: 1: lod: not found", ExitCode: 127}, "program"},
		{Seen{Error: "exit code 1: ModuleNotFoundError: No module named 'gauge'", ExitCode: 1}, "program"},
		{Seen{Error: "exit code 1: nobody has measured G05 yet: data/curves/G05.csv is missing", ExitCode: 1}, "file"},
		{Seen{Error: "exit code 1: open a: No such file or directory", ExitCode: 1}, "file"},
		{Seen{Error: "exit code 126: the program bin/load has no run bit", ExitCode: 126}, "not-executable"},
		{Seen{Error: "exit code 126: sh: bin/load: Permission denied", ExitCode: 126}, "denied"},
		{Seen{Error: "ended by SIGKILL", ExitCode: -1}, "memory"},
		{Seen{Error: "exit code 137", ExitCode: 137}, "memory"},
		{Seen{Error: "over its timeout of 10m0s, ended by SIGKILL", ExitCode: -1}, "timeout"},
		{Seen{Error: "exit code 1: write: No space left on device", ExitCode: 1}, "disk"},
		{Seen{Error: "exit code 7: connect: Connection refused", ExitCode: 7}, "refused"},
		{Seen{Error: "exit code 6: Could not resolve host: gauges.example", ExitCode: 6}, "route"},
		{Seen{Error: `exit code 3: column "level_m" does not exist`, ExitCode: 3}, "column"},
		{Seen{Error: "exit code 1: a file of 2026-11-21T23:00:00Z has no column level_m, but time,station", ExitCode: 1}, "column"},
		{Seen{Error: "exit code 1: expected 5 columns, got 4", ExitCode: 1}, "column"},
		{Seen{Error: "exit code 1: password authentication failed for user", ExitCode: 1}, "denied"},
		{Seen{Error: "exit code 5", ExitCode: 5, Log: []string{"connect: connection refused", "giving up"}}, "refused"},
		{Seen{Error: "exit code 1: the river rose", ExitCode: 1}, ""},
	} {
		got, ok := HintFor(c.seen)
		if got.Kind != c.kind || ok != (c.kind != "") {
			t.Errorf("%+v: %q instead of %q", c.seen, got.Kind, c.kind)
		}
		if ok && (got.Cause == "" || got.Try == "") {
			t.Errorf("%s says nothing", got.Kind)
		}
	}
}

func TestTheLinesThatMatter(t *testing.T) {
	lines := []string{"begin", "reading G01", "error: level is not a number", "skipped", "one", "two", "three", "done badly", "bye"}
	got := Mattering(lines, 20)
	if !slices.Equal(got, []int{1, 2, 3, 5, 6, 7, 8}) {
		t.Errorf("%v", got)
	}
	if got := Mattering(lines, 3); len(got) != 3 || !slices.Contains(got, 8) {
		t.Errorf("%v", got)
	}
	if got := Mattering(nil, 5); got != nil {
		t.Errorf("%v", got)
	}
}

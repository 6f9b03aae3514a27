package main

import (
	"strings"
	"testing"
)

func TestTheTableTellsWhatWasMeasured(t *testing.T) {
	got := table(figures(`goos: linux
BenchmarkGraph-2   	       1	23000000000 ns/op	         4.50 s-graph	         2.80 s-make	         6.00 s-ninja
BenchmarkParkedWaits/waits=10-2  	   10	 100 ns/op	  9000 B/wait	 3.000 goroutines
BenchmarkParkedWaits/waits=10000-2  	   10	 100 ns/op	  4100 B/wait	 0 goroutines
ok`))
	for _, want := range []string{
		"| 5,000-task graph, s; beside `make -j4` | 4.50 | 2.80 | 1.61 | 1.50, not met |",
		"| the same; beside `ninja -j4` | 4.50 | 6 | 0.75 | 1, met |",
		"| 10,000 parked waits, bytes each | 4100 |  |  | 5000, met |",
		"| 10,000 parked waits, goroutines | 0 |  |  | none, met |",
	} {
		if !strings.Contains(got, want+"\n") {
			t.Errorf("there is no line %s in\n%s", want, got)
		}
	}
	if strings.Count(got, "\n") != 6 {
		t.Errorf("what was not measured is told:\n%s", got)
	}
}

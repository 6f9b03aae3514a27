package store

import (
	"strings"
	"testing"
	"time"
)

// Only the logs of runs that are over go, however many there are of both.
func TestLogsOfRunsThatAreOverAreForgotten(t *testing.T) {
	s, err := Open(t.Context(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	now := time.Now()
	s.Writer.Begin()
	workflow := s.Writer.AddWorkflow(Workflow{Name: "gauges", Version: 1, Covered: "{}", DecidedUntil: At(now)})
	var runs []int64
	for n := range 3*runsForgotten + 7 {
		row := Run{Workflow: workflow, Number: n + 1, Version: 1, State: "succeeded", Cause: "person", Params: "{}", Watermarks: "{}", Created: At(now)}
		row.ID = s.Writer.AddRun(row, 1)
		switch {
		case n%10 == 3: // it goes on
			row.State = "running"
		case n >= 2*runsForgotten: // it has just ended
			row.Ended = At(now)
		default:
			row.Ended = At(now.Add(-48 * time.Hour))
		}
		s.Writer.SetRun(row)
		runs = append(runs, row.ID)
	}
	if err := s.Writer.Commit(); err != nil {
		t.Fatal(err)
	}
	for _, id := range runs {
		if err := s.Logs.Append(t.Context(), Chunk{Of: LogOf{Run: id, Attempt: 1}, Lines: []Line{{At: now, Text: []byte(strings.Repeat("gauge ", 50))}}}); err != nil {
			t.Fatal(err)
		}
	}
	forgotten, err := s.ForgetLogs(t.Context(), Keep{Before: At(now.Add(-24 * time.Hour))})
	if err != nil || forgotten != 2*runsForgotten*9/10 {
		t.Errorf("%d runs lost their logs, %v", forgotten, err)
	}
	for n, id := range runs {
		count, err := s.Logs.Count(t.Context(), LogOf{Run: id, Attempt: 1})
		if gone := n < 2*runsForgotten && n%10 != 3; err != nil || (count == 0) != gone {
			t.Errorf("run %d has %d lines, %v", n+1, count, err)
		}
	}
	if again, err := s.ForgetLogs(t.Context(), Keep{Before: At(now.Add(-24 * time.Hour))}); err != nil || again != 0 {
		t.Errorf("%d more, %v", again, err)
	}
}

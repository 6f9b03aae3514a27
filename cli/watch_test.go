package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

const watched = `workflow: gauges
owner: hydrology
due_by: 30m
params: {basin: {type: text, default: upper}}
tasks:
  collect: {shell: 'echo "{\"rows\": 36}" > "$LANTERN_RESULT"; echo "36 readings"'}
  load: {after: collect, shell: 'echo "opening the store"; test -e "$STORE" || { echo "connect: connection refused" >&2; exit 7; }', env: {STORE: "${params.basin}.store"}}
---
workflow: roads
owner: roads
tasks: {count: {shell: 'echo counted'}}
`

// A failure as somebody at a terminal meets it: seen, understood, taken on, mended,
// made again, and closed.
func TestAFailureAtATerminal(t *testing.T) {
	p := newPerson(t)
	store := filepath.Join(p.home, "there")
	p.writes("w.yaml", strings.ReplaceAll(watched, "${params.basin}.store", store+"-${params.basin}"))
	p.wants(p.does("check", "w.yaml"), 0, "gauges: 2 tasks")
	p.serves()
	p.wants(p.does("failures"), 0, "nothing is broken")
	p.wants(p.does("failures", "--closed"), 0, "No trouble has been closed yet.")
	p.wants(p.does("failures", "--take"), 2, "to act on a trouble, name it")
	p.wants(p.does("failures", "seven"), 2, `"seven" is not the number of a trouble`)
	p.wants(p.does("failures", "7"), 2, "lantern failures lists")
	p.wants(p.does("apply", "w.yaml"), 0)
	p.writes("there-lower", "")
	p.wants(p.does("start", "gauges", "-p", "basin=lower", "--follow"), 0)
	p.wants(p.does("start", "gauges", "--follow"), 1)
	p.wants(p.does("failures"), 0, "gauges / load", "1 run", "refused the connection")
	p.wants(p.does("failures", "--owner", "roads"), 0, "nothing is broken")
	p.wants(p.does("failures", "1"), 0, "exit code 7: connect: connection refused", "without data  gauges:2", "last good     gauges:1", "param basin: lower → upper", "opening the store", "Next: lantern failures 1 --rerun")
	p.wants(p.does("failures", "1", "--take", "--note", "the store is being moved"), 0, "with          kari", "take: the store is being moved")
	p.wants(p.does("failures", "1", "--known-until", "yesterday"), 2, "write a date, as in 2026-03-29")
	p.wants(p.does("failures", "1", "--known-until", "2020-01-01"), 2, "is not in the future")
	p.wants(p.does("failures", "1", "--rerun", "--close"), 2)
	p.wants(p.does("failures", "1", "--follow-on"), 2, "--follow-on goes with --rerun")
	p.wants(p.does("failures", "1", "--rerun", "--dry-run"), 0, "gauges:2  would make again load", "Nothing was done")
	p.wants(p.does("compare", "gauges:1", "gauges:2"), 0, "They part at load: succeeded in the first, failed in the second.", "param basin", "lower")
	p.wants(p.does("compare", "gauges:1", "gauges:1"), 0, "They nowhere part")
	p.wants(p.does("start", "roads", "--follow"), 0)
	p.wants(p.does("compare", "gauges:1", "roads:1"), 2, "are runs of two workflows")
	p.wants(p.does("runs", "gauges", "--error", "REFUSED"), 0, "gauges:2")
	if s := p.does("runs", "gauges", "--param", "basin=lower"); strings.Contains(s.out, "gauges:2") || !strings.Contains(s.out, "gauges:1") {
		t.Errorf("%+v", s)
	}
	p.wants(p.does("runs", "--from", "then"), 2, "write a moment as")
	p.writes("there-upper", "")
	p.wants(p.does("failures", "1", "--rerun"), 0, "gauges:2  makes again load")
	p.wants(p.does("watch", "gauges:2"), 0)
	p.wants(p.does("failures"), 0, "nothing is broken")
	p.wants(p.does("failures", "--closed", "-o", "json"), 0, `"number": 1`, `"closed"`)
	p.wants(p.does("failures", "1", "--note", "over"), 2, "trouble 1 is closed already")

	// What needs a new version is made anew.
	if err := os.Remove(filepath.Join(p.home, "there-upper")); err != nil {
		t.Fatal(err)
	}
	p.wants(p.does("start", "gauges", "--follow"), 1)
	p.writes("w.yaml", strings.ReplaceAll(strings.ReplaceAll(watched, "exit 7", "exit 0"), "${params.basin}.store", store+"-${params.basin}"))
	p.wants(p.does("apply", "w.yaml"), 0, "changed")
	p.wants(p.does("failures", "2", "--anew", "--dry-run"), 0, "a new run for its window would be made")
	p.wants(p.does("failures", "2", "--anew"), 0, "gauges:3  is made anew as gauges:4")
	p.wants(p.does("watch", "gauges:4"), 0)
	p.wants(p.does("failures"), 0, "nothing is broken")
}

func TestReportsStandAlone(t *testing.T) {
	p := newPerson(t)
	p.writes("w.yaml", watched)
	p.serves()
	p.wants(p.does("apply", "w.yaml"), 0)
	p.wants(p.does("start", "roads", "--follow"), 0)
	p.wants(p.does("start", "gauges", "--follow"), 1)
	p.wants(p.does("report"), 2, "say either a RUN, or --day DATE")
	p.wants(p.does("report", "--day", "someday"), 2, "write a date")
	p.wants(p.does("report", "--day", "today", "--zone", "Nowhere"), 2, "IANA")
	p.wants(p.does("report", "roads:1", "--as", "pdf"), 2, "write html, csv or json")
	p.wants(p.does("report", "gauges:1", "--to", "run.html"), 0)
	text, err := os.ReadFile(filepath.Join(p.home, "run.html"))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"Run gauges:1", "✕ failed", "connect: connection refused", p.server + "/runs/gauges:1", "of processor time", " UTC"} {
		if !strings.Contains(string(text), want) {
			t.Errorf("the report does not say %q:\n%s", want, text)
		}
	}
	if strings.Contains(string(text), "0 KB") {
		t.Errorf("the report tells of memory that nobody has seen:\n%s", text)
	}
	for _, foreign := range []string{"<script", "src=", "@import", "url("} { // it needs nothing from elsewhere
		if strings.Contains(string(text), foreign) {
			t.Errorf("the report has %q", foreign)
		}
	}
	p.wants(p.does("report", "gauges:1", "--as", "csv"), 0, "task,state,attempts,started,ended,seconds,cpu_seconds,peak_bytes,error", "load,failed,1,")
	p.wants(p.does("report", "--day", "today", "--as", "csv"), 0, "run,state,cause", "roads:1,succeeded,person", "gauges:1,failed,person")
	p.wants(p.does("report", "--day", "today"), 0, "Runs that ended on", "What is broken now", "gauges / load", "● 1 succeeded")
	p.wants(p.does("report", "--day", "2020-02-29"), 0, "No run ended on that day.")
	var body struct {
		Runs   []struct{ ID string }
		Counts map[string]int
	}
	if err := json.Unmarshal([]byte(p.does("report", "--day", "today", "--as", "json").out), &body); err != nil || len(body.Runs) != 2 || body.Counts["failed"] != 1 {
		t.Errorf("%+v, %v", body, err)
	}
}

func TestWorkersAndWhatIsUsed(t *testing.T) {
	p := newPerson(t)
	p.writes("w.yaml", "workflow: busy\ntasks:\n  work: {shell: 'i=0; while [ $i -lt 200000 ]; do i=$((i+1)); done'}\n  sleep: {after: work, shell: 'sleep 20'}\n")
	p.serves("--price-per-hour", "3600")
	p.wants(p.does("apply", "w.yaml"), 0)
	p.wants(p.does("usage"), 0, "No run has ended in these weeks.")
	p.wants(p.does("usage", "--weeks", "0"), 2, "from 1 to 52")
	p.wants(p.does("start", "busy"), 0)
	for deadline := time.Now().Add(15 * time.Second); !strings.Contains(p.does("workers").out, "sleep") && time.Now().Before(deadline); {
		time.Sleep(30 * time.Millisecond)
	}
	p.wants(p.does("workers"), 0, "1 of ", "busy:1", "sleep", "attempt 1")
	p.wants(p.does("stop", "busy:1"), 0)
	p.wants(p.does("watch", "busy:1"), 1)
	var used struct {
		Workflows []struct {
			Weeks []struct {
				CPU   float64 `json:"cpu_seconds"`
				Price float64 `json:"price"`
			}
		}
	}
	if err := json.Unmarshal([]byte(p.does("usage", "-o", "json").out), &used); err != nil || len(used.Workflows) != 1 {
		t.Fatalf("%+v, %v", used, err)
	}
	weeks := used.Workflows[0].Weeks
	if last := weeks[len(weeks)-1]; len(weeks) != 4 || last.CPU <= 0 || last.Price <= 0 {
		t.Errorf("%+v", weeks)
	}
	p.wants(p.does("usage"), 0, "in 1 run", "Processor time of all attempts")
	p.wants(p.does("show", "busy:1"), 0, "stopped")
}

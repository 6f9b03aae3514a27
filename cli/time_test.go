package cli_test

import (
	"io"
	"net/http"
	"strings"
	"testing"
)

const flows = `workflow: flows
starts: [{cron: "40 6 * * *", zone: Europe/Oslo, covers: day}]
params: {station: {type: choice, of: [G02, G05], default: G02}}
watermarks: {days: {type: whole, initial: 0, set: "${watermarks.days + 1}"}}
tasks:
  flow: {exec: [bin/flow, "${format(window.start, '%F', 'Europe/Oslo')}", "${watermarks.days}"]}
`

// A curve was wrong for thirty days: the engineer looks what there is to do, works
// through it, one day fails, is mended and made again.
func TestThirtyDaysAreMadeAgain(t *testing.T) {
	p := newPerson(t)
	p.writes("rivers/lantern.yaml", "project: rivers\n")
	p.writes("rivers/workflows/flows.yaml", flows)
	p.writes("rivers/bin/flow", "#!/bin/sh\necho \"the flow of $1\"\ntest $1 != 2026-03-17 || { echo \"no column level_m\" >&2; exit 1; }\n")
	p.serves()
	p.wants(p.does("apply", "rivers"), 0, "flows is new")
	march := []string{"backfill", "flows", "--from", "2026-03-01", "--to", "2026-03-30"}
	p.wants(p.does(append(march, "--dry-run")...), 0, "Sun 01 Mar 2026 00:00 to Tue 31 Mar 2026 00:00", "windows: 30 missing", "it would make 30 runs", "Nothing was begun")
	p.wants(p.does("backfills"), 0, "There are no backfills yet")
	p.wants(p.does(append(march, "--at-once", "4", "--follow")...), 1, "30 of 30", "29", "✕ 1", "✕ failed")
	p.wants(p.does("backfills", "1"), 0, "backfill 1 of flows", "flows:17")
	p.wants(p.does("logs", "flows:17", "flow"), 0, "the flow of 2026-03-17", "no column level_m")
	p.wants(p.does(append(march, "--dry-run")...), 0, "1 failed, 29 succeeded", "it would make 0 runs")
	p.wants(p.does(march...), 2, "there is nothing to do: none of the 30 windows is missing; say --only all")

	p.writes("rivers/bin/flow", "#!/bin/sh\necho \"the flow of $1\"\n")
	p.wants(p.does("apply", "rivers"), 0, "now version 2", "the folder of code is another one")
	p.wants(p.does("backfills", "1", "--retry", "--follow"), 0, "30 of 30", "● succeeded")
	p.wants(p.does("show", "flows:31", "-o", "json"), 0, `"version": 2`, `"cause": "backfill"`, `"start": "2026-03-16T23:00:00Z"`)
	p.wants(p.does("show", "flows:17"), 0, "whose data now rests on flows:31")
	p.wants(p.does(append(march, "--only", "all", "--merge", "7d", "--on", "mon-fri", "--order", "newest", "--dry-run")...), 0, "21 succeeded", "it would make 5 runs for 21 windows", "the newest first")

	p.wants(p.does("backfill", "flows", "--from", "2026-03-30", "--to", "2026-03-01"), 2, "ends before it starts")
	p.wants(p.does("backfill", "flows"), 2, "say which range")
	p.wants(p.does("backfill", "flows", "--from", "2026-03-01", "--to", "2026-03-02", "--only", "some"), 2, "write missing or failed or all")
	p.wants(p.does("backfills", "9"), 2, "there is no such backfill")
	p.wants(p.does("backfills", "1", "--pause"), 2, "backfill 1 has ended")
	p.wants(p.does("backfills", "--stop"), 2, "say which backfill")

	// What is due next, also for calendar programs; why a window has no run.
	p.wants(p.does("upcoming", "--for", "3d"), 0, "flows", "covers", "00:00", "06:40 CE")
	p.wants(p.does("upcoming", "--for", "soon"), 2, `for is "soon"`)
	p.wants(p.does("upcoming", "--workflow", "flow"), 2, `did you mean "flows"?`)
	feed := strings.Fields(p.does("upcoming", "--feed").out)[0]
	get := func(address string) string {
		response, err := http.Get(address)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	if text := get(feed); !strings.HasPrefix(text, "BEGIN:VCALENDAR") || !strings.Contains(text, "SUMMARY:flows") || !strings.Contains(text, "covers") {
		t.Errorf("the calendar is %s", text)
	}
	p.wants(p.does("upcoming", "--close-feeds"), 0, "worthless")
	if text := get(feed); !strings.Contains(text, "not known") {
		t.Errorf("after it was closed the calendar is %s", text)
	}
	p.wants(p.does("workflows", "flows", "--decisions"), 0, "Each due window got its run.")

	// A backfill leaves watermarks as they are; a run moves them on, a person sets them.
	p.wants(p.does("watermarks", "flows"), 0, "days", "0", "initial")
	p.wants(p.does("start", "flows", "--window", "2026-03-30T22:00:00Z/2026-03-31T22:00:00Z", "--follow"), 0, "succeeded")
	p.wants(p.does("watermarks", "flows"), 0, "1", "flows:32")
	p.wants(p.does("watermarks", "flows", "days=5"), 0, "5", "kari")
	p.wants(p.does("watermarks", "flows", "days=many"), 2, `is not of the type whole`)
	p.wants(p.does("watermarks", "flows", "days"), 0, "flows:32", "kari")
}

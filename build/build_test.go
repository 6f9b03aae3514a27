package build

import (
	"bytes"
	"os"
	"strings"
	"testing"
	"time"

	"wiselantern/core/definition"
)

// example is the example of docs/reference/definition.md, which has every key.
func example() *Workflow {
	spread, least := 0.2, 0.0
	w := &Workflow{
		Name: "gauge-hourly", About: "Collect the hourly readings of every river gauge.", Owner: "hydrology", Labels: []string{"gauges"},
		Params: []Param{
			{Name: "basin", Type: "choice", Choice: []string{"upper", "lower"}, Default: "upper"},
			{Name: "threshold", Type: "number", Min: &least, Default: 2.4, About: "The index from which people are warned"},
			{Name: "stations", Type: "list", Of: "text", Default: []string{"G01", "G02", "G03"}},
		},
		Starts: []Start{
			{Every: time.Hour, Zone: "Europe/Oslo", Missed: "newest"},
			{Every: 10 * time.Minute, Between: "06:00..08:00", On: []string{"mon-fri"}, From: "2026-03-01", Until: "2026-10-31", Except: []string{"2026-05-01", "2026-07-01..2026-07-31"}, Spread: 5 * time.Minute},
			{Cron: "20 6 * * *", Delay: 15 * time.Minute, Covers: Covers{Length: 24 * time.Hour, Ends: -2 * time.Hour}, Params: map[string]any{"basin": "lower"}},
			{RRule: "FREQ=MONTHLY;BYDAY=-1FR;BYHOUR=6", Covers: Covers{Unit: "month"}},
			{At: []string{"2026-03-28T06:00"}},
		},
		Outside: []Outside{
			{Event: "storm.*", Source: "/office/*", Subject: "upper", Where: "event.data.level >= 2", Settle: 5 * time.Second, Params: map[string]string{"basin": "${event.subject}"}},
			{Files: []string{"inbox/*.csv", "inbox/**/*.csv.gz"}, Settle: 3 * time.Second, Check: 30 * time.Second, MinSize: "1kB", Collect: 10 * time.Minute},
			{Datasets: []string{"permits", "readings/raw"}, All: true},
			{Workflow: "station-book", Expect: []Outcome{Settled}},
		},
		OnlyIf:    `run.cause != "schedule" || new("readings/raw")`,
		IfRunning: "queue", AtMost: 2, Priority: 5, Deadline: 2 * time.Hour,
		Defaults: Settings{Timeout: 10 * time.Minute, Env: map[string]string{"RIVER": "/srv/river"},
			Retry: &Retry{Times: 2, Pause: 20 * time.Second, Growth: 2, Cap: 5 * time.Minute, Spread: &spread}},
		Result:     map[string]string{"index": "${task('load').result.index}"},
		Watermarks: []Watermark{{Name: "last_hour", About: "The newest hour that is in the store", Type: "moment", Initial: "2026-01-01T00:00:00Z", Set: "${window.end}"}},
	}
	ground := w.Resource("ground", Shell("mkdir -p /srv/river/scratch"), Shell("rmdir /srv/river/scratch"))
	ground.About = "The folder that everything else lies in"
	scratch := w.Resource("scratch", Exec("bin/scratch", "up"), Exec("bin/scratch", "down")).Within(ground)
	scratch.Open.Timeout, scratch.Close.Retry, scratch.CloseMustSucceed = time.Minute, &Retry{Times: 3}, true

	collect := w.Exec("collect", "bin/collect", "--all", "${params.stations}")
	collect.WhenPrevious(collect, Settled)
	collect.Outcomes = map[string]string{"3": "skipped", "64..74": "failed"}
	each := w.Exec("check/each", "bin/each", "${item}", "${resource('scratch').result.folder}").When(collect, Clear).Within(scratch)
	each.ForEach, each.AtOnce, each.StopOnFirst = "params.stations", 2, true
	w.Start("basins", Inner{Workflow: "basin-daily", Params: map[string]string{"basin": "${params.basin}", "checks": "${task('check/each').results.size()}"}}).After(each)
	span := w.Shell("check/range", "awk -f bin/range.awk \"$RIVER\"/hours/*.csv\n").When(collect, Clear)
	stuck := w.Exec("check/stuck", "bin/stuck").When(collect, Succeeded, Skipped)
	stuck.MayFail = true
	load := w.Exec("load", "bin/load", "${format(window.start, '%F', 'Europe/Oslo')}").After(span).When(stuck, Settled)
	load.About, load.Timeout, load.Takes, load.Once = "Put the hour into the store", time.Hour, map[string]int{"warehouse": 1}, true
	load.Queue = "upland"
	mend := w.Exec("mend", "bin/mend").When(load, Failed)
	way := w.Route("way").After(load, mend)
	way.Join, way.Otherwise = "any", "hold"
	publish := w.Exec("publish", "bin/publish").After(way)
	publish.OnlyIf = `run.cause == "schedule"`
	tell := w.Exec("tell", "bin/tell").After(way)
	tell.Env = map[string]string{"HOUR": "${window.end}"}
	arrive := w.WaitAll("arrive",
		Awaited{Name: "scan", Files: []string{"scans/${params.basin}/*.csv"}, Settle: 2 * time.Second, Count: 2, MinSize: "10kB", Check: 10 * time.Second},
		Awaited{Name: "permit", Event: "permit.given", Source: "/office/*", Subject: "${params.basin}", Where: "event.data.level > 2"})
	arrive.Timeout, arrive.OnTimeout = 2*time.Hour, "skip"
	w.Wait("permits", Awaited{Dataset: "permits", Window: "newest"}).When(arrive, Clear)
	w.Wait("hours", Awaited{Workflow: "hour", Task: "quality/*", Window: "covering", Expect: []Outcome{Clear}})
	w.Wait("noon", Awaited{Until: "${window.end + duration('6h')}"})
	ready := w.WaitAny("ready",
		Awaited{Name: "office", HTTP: "http://127.0.0.1:8080/${params.basin}", Method: "POST", Headers: map[string]string{"Accept": "application/json"}, Body: "{}", Status: []string{"200", "300..302"}, Holds: "answer.body.ready", Check: 10 * time.Second, Growth: 2, Cap: 5 * time.Minute},
		Awaited{Name: "table", Query: "SELECT count(*) AS n FROM hours WHERE hour = $1", With: []string{"${window.start}"}, Connection: "warehouse", Holds: "rows[0].n > 0"})
	alarm := w.Approve("alarm", Question{Ask: "Warn the ${params.basin} basin?", From: []string{"duty"}, Show: map[string]string{"index": "${task('load').result.index}"}, No: "fail"}).After(ready, load)
	alarm.Timeout, alarm.OnTimeout = time.Hour, "no"
	w.Exec("warn", "bin/warn").After(alarm).Updates = []Dataset{{Name: "warnings", About: "Warnings that were given", FreshWithin: 48 * time.Hour}}
	way.Choose(Rule{If: `task("load").state == "succeeded"`, To: []*Task{publish}}, Rule{To: []*Task{tell}})
	return w
}

func TestTheExampleOfTheReferenceInGo(t *testing.T) {
	text, err := os.ReadFile("../docs/reference/definition.md")
	if err != nil {
		t.Fatal(err)
	}
	_, byHand, _ := strings.Cut(string(text), "## An example with everything")
	_, byHand, _ = strings.Cut(byHand, "```yaml\n")
	byHand, _, _ = strings.Cut(byHand, "```")
	read := func(text string) *definition.Workflow {
		project, problems := definition.Load([]definition.File{{Path: "w.yaml", Text: text}})
		if problems != nil {
			t.Fatalf("%v\n%s", problems, text)
		}
		return project.Workflows[0]
	}
	want := read(byHand)
	w := example()
	for name, write := range map[string]func(*bytes.Buffer) error{
		"YAML": func(to *bytes.Buffer) error { return w.WriteYAML(to) },
		"JSON": func(to *bytes.Buffer) error { return w.WriteJSON(to) },
	} {
		var out bytes.Buffer
		if err := write(&out); err != nil {
			t.Fatal(err)
		}
		got := read(out.String())
		if differences := definition.Differences(want, got); differences != nil || got.Hash() != want.Hash() {
			t.Errorf("%s: %+v\n%s", name, differences, out.String())
		}
	}
}

func TestMistakesAreErrors(t *testing.T) {
	w := &Workflow{Name: "Gauges"}
	w.Exec("a", "x").OnlyIf = "params.fast"
	var out bytes.Buffer
	err := w.WriteYAML(&out)
	if err == nil || out.Len() > 0 || !strings.Contains(err.Error(), `write "gauges"`) || !strings.Contains(err.Error(), "the workflow has no params") {
		t.Errorf("got %v", err)
	}
	if err := (&Workflow{Name: "empty"}).Check(); err == nil || !strings.Contains(err.Error(), "the workflow has no tasks") {
		t.Errorf("got %v", err)
	}
	odd := &Workflow{Name: "odd", About: "yes: \"no\"\n- 010 # null"}
	odd.Exec("a", "010", "true", "null", "~", "- x", "a: b", "", "*", "&x", "%", "ø", "two\nlines", "1e3", `"q"`, "$${x}").Env = map[string]string{"A": "no", "B": "", "C": "0x10"}
	for _, write := range []func(*bytes.Buffer) error{func(b *bytes.Buffer) error { return odd.WriteYAML(b) }, func(b *bytes.Buffer) error { return odd.WriteJSON(b) }} {
		var out bytes.Buffer
		if err := write(&out); err != nil {
			t.Fatal(err)
		}
		project, problems := definition.Load([]definition.File{{Path: "w.yaml", Text: out.String()}})
		if problems != nil {
			t.Fatalf("%v\n%s", problems, out.String())
		}
		got := project.Workflows[0]
		if words := strings.Join(got.Tasks[0].Exec, "|"); words != "010|true|null|~|- x|a: b||*|&x|%|ø|two\nlines|1e3|\"q\"|$${x}" || got.About != odd.About || got.Tasks[0].Env["C"] != "0x10" || got.Tasks[0].Env["A"] != "no" {
			t.Errorf("%q, %q, %v\n%s", words, got.About, got.Tasks[0].Env, out.String())
		}
	}
}

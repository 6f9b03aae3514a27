package definition

import (
	"strings"
	"testing"
)

const checks = `name,after,exec,env.STATION,retry.times,may_fail,note
range,,bin/check range,G01,2,,
stuck,range,"bin/check stuck ""all day""",G01,,true,
told,range;stuck=settled,bin/tell,,,,
`

// A workflow from a table is the same as one whose tasks stand in the file.
func TestTasksFromATable(t *testing.T) {
	byHand := `workflow: checks
tasks:
  range: {exec: [bin/check, range], env: {STATION: G01}, retry: {times: 2}}
  stuck: {after: range, exec: [bin/check, stuck, all day], env: {STATION: G01}, may_fail: true}
  told: {after: {range: succeeded, stuck: settled}, exec: [bin/tell]}
  last: {after: told, exec: [x]}
`
	want, problems := Parse("w.yaml", byHand, standard)
	if problems != nil {
		t.Fatal(problems)
	}
	columns := "columns: {name: name, after: after, exec: exec, env.STATION: env.STATION, retry.times: retry.times, may_fail: may_fail}"
	for name, text := range map[string]string{
		"checks.csv": checks,
		"checks.tsv": strings.NewReplacer(",", "\t", `"bin/check stuck ""all day"""`, `bin/check stuck "all day"`).Replace(checks),
		"checks.json": `[{"name": "range", "exec": ["bin/check", "range"], "env": {"STATION": "G01"}, "retry": {"times": 2}, "after": "", "may_fail": ""},
			{"name": "stuck", "after": "range", "exec": ["bin/check", "stuck", "all day"], "env": {"STATION": "G01"}, "may_fail": true},
			{"name": "told", "after": {"range": "succeeded", "stuck": "settled"}, "exec": ["bin/tell"]}]`,
	} {
		of := "table: {file: data/" + name + ", " + columns + "}"
		if strings.HasSuffix(name, "json") {
			of = "table: data/" + name
		}
		files := []File{{Path: "workflows/w.yaml", Text: "workflow: checks\n" + of + "\ntasks: {last: {after: told, exec: [x]}}"}, {Path: "data/" + name, Text: text, Table: true}}
		project, problems := Load(files)
		if problems != nil {
			t.Errorf("%s: %v", name, problems)
			continue
		}
		if got := Differences(want[0], project.Workflows[0]); got != nil {
			t.Errorf("%s: %+v", name, got)
		}
		if got := Tables(files); len(got) != 1 || got[0] != "data/"+name {
			t.Errorf("the tables are %v", got)
		}
	}
}

func TestMistakesInATable(t *testing.T) {
	for name, c := range map[string]struct{ of, path, table, want string }{
		"a column that is no key": {"data/c.csv", "data/c.csv", "name,exec,nxte\na,x,y\nb,x,z\n", `data/c.csv:1:11: task "a" has no key "nxte"
    1 | name,exec,nxte`},
		"no name":             {"data/c.csv", "data/c.csv", "task,exec\na,x\n", "data/c.csv:2:1: this row of the table has no name"},
		"an unknown task":     {"data/c.csv", "data/c.csv", "name,exec,after\na,x,\nb,x,c\n", `data/c.csv:3:5: task "b" comes after "c", which does not exist`},
		"a task twice":        {"data/c.csv", "data/c.csv", "name,exec\na,x\na,y\n", `data/c.csv:3:1: "a" stands in tasks twice; first on line 2`},
		"a row too short":     {"data/c.csv", "data/c.csv", "name,exec\na\n", "give each row 2 cells"},
		"an open quote":       {"data/c.csv", "data/c.csv", "name,exec\na,\"x\n", "this is not CSV"},
		"nothing in it":       {"data/c.csv", "data/c.csv", "", "the table is empty"},
		"only heads":          {"data/c.csv", "data/c.csv", "name,exec\n", "the workflow has no tasks"},
		"no such file":        {"data/d.csv", "data/c.csv", "name,exec\n", "w.yaml:2:8: there is no table data/d.csv"},
		"out of the folder":   {"../c.csv", "../c.csv", "name,exec\n", `"../c.csv" is no table`},
		"a column not there":  {"{file: data/c.csv, columns: {name: task, exec: command}}", "data/c.csv", "task,exec\na,x\nb,x\n", `w.yaml:2:55: the table has no column "command"`},
		"an unknown key":      {"{fiel: data/c.csv}", "data/c.csv", "name,exec\n", `did you mean "file"?`},
		"JSON that is none":   {"data/c.json", "data/c.json", `{"name": "a"}`, "a table in JSON is a list of objects"},
		"a row that is none":  {"data/c.json", "data/c.json", `[1]`, "data/c.json:1:2: a row of the table is a single value"},
		"a wrong value":       {"data/c.csv", "data/c.csv", "name,exec,retry.times\na,x,many\n", `data/c.csv:2:5: times of retry is "many"`},
		"a wrong expression":  {"data/c.csv", "data/c.csv", "name,exec,only_if\na,x,params.fast\n", "data/c.csv:2:5: the workflow has no params"},
		"two that are a loop": {"data/c.csv", "data/c.csv", "name,exec,after\na,x,b\nb,x,a\n", "tasks come after each other in a circle"},
	} {
		_, problems := Load([]File{{Path: "w.yaml", Text: "workflow: w\ntable: " + c.of}, {Path: c.path, Text: c.table, Table: true}})
		if problems == nil || !strings.Contains(problems.Error(), c.want) || len(problems) > 2 {
			t.Errorf("%s: got\n%v\nwant\n%s", name, problems, c.want)
		}
	}
}

// Holidays come from a file of the project, and are written out.
func TestDaysOffFromAFile(t *testing.T) {
	const calendar = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTAMP:20260101T000000Z\r\nDTSTART;VALUE=DATE:20260501\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
	files := []File{{Path: "w.yaml", Text: "workflow: w\nstarts: [{every: 10m, between: 06:00..08:00, on: mon-fri, except: [days.ics, 2026-12-24]}]\ntasks: {a: {exec: [x]}}"}, {Path: "days.ics", Text: calendar, Table: true}}
	project, problems := Load(files)
	if problems != nil || strings.Join(project.Workflows[0].Starts[0].Except, " ") != "2026-05-01 2026-12-24" {
		t.Fatal(problems, project.Workflows)
	}
	if got := Tables(files); len(got) != 1 || got[0] != "days.ics" {
		t.Errorf("the files wanted are %v", got)
	}
	files[1].Text = "no calendar"
	if _, problems := Load(files); problems == nil || !strings.Contains(problems.Error(), "days.ics: this is no iCalendar file") {
		t.Errorf("got %v", problems)
	}
}

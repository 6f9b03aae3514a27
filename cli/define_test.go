package cli_test

import (
	"strings"
	"testing"
)

const stations = `workflow: stations
params: {stations: {type: list, default: [G01, G02, G03]}}
resources:
  desk:
    open:  {shell: 'echo "{\"folder\": \"here\"}" > "$LANTERN_RESULT"'}
    close: {shell: 'echo clear'}
tasks:
  page:
    for_each: params.stations
    at_once: 1
    within: desk
    shell: |
      echo "page of $LANTERN_ITEM"
      test "$LANTERN_ITEM" != G02
    env: {FOLDER: "${resource('desk').result.folder}"}
  bind: {after: {page: settled}, exec: [echo, "${task('page').results.size()}", "${item}"]}
`

// One task after the other of what a person does who defines a workflow.
func TestDefiningItemsResourcesAndEnvironments(t *testing.T) {
	p := newPerson(t)
	p.writes("rivers/lantern.yaml", "project: rivers\nsetup: {shell: echo set up}\nenvironments:\n  dev: {params: {depth: 3}, capacity: {store: 2}}\n  prod: {params: {depth: 9}, capacity: {store: 4}}\n")
	p.writes("rivers/workflows/stations.yaml", stations)
	p.wants(p.does("check", "rivers"), 2, "stations.yaml:16:84", "there is no item here", `environment "dev" sets the param "depth", which no workflow has`, "3 mistakes")
	p.writes("rivers/workflows/stations.yaml", strings.Replace(stations, `, "${item}"`, "", 1))
	p.writes("rivers/workflows/checks.yaml", "workflow: checks\nparams: {depth: {type: whole, default: 1}}\ntable: data/checks.csv\n")
	p.wants(p.does("check", "rivers"), 2, "checks.yaml:3:8: there is no table data/checks.csv")
	p.writes("rivers/data/checks.csv", "name,after,shell,takes.store\ndrift,,echo $LANTERN_PARAM_DEPTH deep,1\nice,drift,echo no ice,\n")
	p.wants(p.does("check", "rivers"), 0, "checks: 2 tasks", "stations: 2 tasks")
	p.wants(p.does("outline", "rivers"), 0, "for each of params.stations, 1 at once; within desk", "resource desk  opened for page", "longest chain drift → ice")

	p.wants(p.does("try", "rivers", "--workflow", "stations", "--show"), 0, "nothing is run", `for each "G01", "G02", "G03"`, "FOLDER=${resource('desk').result.folder}", "desk:close")
	p.wants(p.does("try", "rivers", "--workflow", "stations", "--task", "bind", "--result", `page=[{"a": 1}, null]`, "--show"), 0, "echo 2")
	p.wants(p.does("try", "rivers", "--workflow", "stations", "--task", "bind", "--result", `page=[{"a": 1}, null]`, "--logs"), 0, "left out, as asked by kari", "What bind printed:", "lantern: setup of the project", "set up\n2\n")
	p.wants(p.does("try", "rivers", "--workflow", "stations", "--task", "bnd"), 2, `there is no task "bnd"; did you mean "bind"?`)
	p.wants(p.does("try", "rivers", "--workflow", "checks", "--env", "prod", "-p", "depth=12", "--logs"), 0, "12 deep")
	p.wants(p.does("try", "rivers", "--workflow", "stations", "--result", `page={}`), 2, "which is not left out")

	p.writes("rivers/workflows/outer.yaml", "workflow: outer\nstarts: [{every: 1s}]\ntasks: {all: {for_each: [1, 12], start: {workflow: checks, params: {depth: \"${item}\"}}}}\n")
	p.wants(p.does("try", "rivers", "--workflow", "outer"), 0, "all[1]", "waits for the end of checks:2", "outer:1                  ● succeeded")

	p.writes("rivers/workflows/outer.yaml", "workflow: outer\ntasks: {all: {for_each: [1, 12], start: {workflow: checks, params: {depth: \"${item}\"}}}}\n") // else it starts by itself
	p.serves()
	p.wants(p.does("apply", "rivers", "--env", "pord"), 2, `did you mean "prod"?`)
	p.wants(p.does("apply", "rivers", "--env", "prod"), 0, "+ checks is new, version 1", "~ capacity store: 0 → 4")
	p.writes("rivers/workflows/checks.yaml", "workflow: checks\nparams: {depth: {type: whole, default: 1}}\ntable: data/checks.csv\ndefaults: {retry: {times: 2}}\n")
	p.wants(p.does("apply", "rivers", "--env", "dev", "--dry-run"), 0, "~ checks would be changed, now version 2", "param depth default: 9 → 3", "task drift retry.times: 0 → 2", "~ capacity store: 4 → 2", "Nothing was applied")
	p.wants(p.does("start", "checks", "--follow"), 0, "drift", "succeeded")
	p.wants(p.does("logs", "checks", "drift"), 0, "9 deep")
	p.wants(p.does("start", "checks", "--only", "ice", "--follow"), 0, "left out, as asked by kari")

	p.wants(p.does("start", "stations", "--follow"), 1, "page[1]", "desk:close", "● succeeded")
	p.wants(p.does("show", "stations"), 0, "1 of its 3 items failed; the first was page[1]: exit code 1", "[1] G02")
	p.wants(p.does("show", "stations", "page"), 0, "3 items", "[0] G01", "[2] G03")
	p.wants(p.does("show", "stations", "page[1]"), 0, "item G02", "exit code 1")
	p.wants(p.does("show", "stations", "page[7]"), 2, `there is no task "page[7]"`)
	p.wants(p.does("show", "stations", "page", "-o", "json"), 0, `"item_list"`)
	p.wants(p.does("logs", "stations", "page[2]"), 0, "page of G03")
	p.wants(p.does("rerun", "stations:1", "--failed", "--dry-run"), 0, "1 task of stations:1 would be made again (--dry-run): page[1]")
	p.wants(p.does("rerun", "stations:1", "--only", "desk:open"), 2, "name those")
	p.wants(p.does("show", "stations:1", "-o", "json"), 0, `"name": "page[0]"`, `"item_of": "page"`, `"name": "desk:open"`)
}

package cli_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"wiselantern/client"
	"wiselantern/internal/testkit"
)

// These tests use the built binary as a person would.

// person is somebody at a terminal, in a folder of their own.
type person struct {
	t       *testing.T
	home    string
	server  string
	program string // "" is the built binary
}

func newPerson(t *testing.T) *person {
	p := &person{t: t, home: t.TempDir()}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	p.server = "http://" + listener.Addr().String()
	listener.Close()
	return p
}

func (p *person) command(args ...string) *exec.Cmd {
	program := p.program
	if program == "" {
		program = testkit.Binary(p.t)
	}
	c := exec.Command(program, args...)
	c.Dir = p.home
	c.Env = append(os.Environ(), "HOME="+p.home, "USER=kari", "XDG_STATE_HOME="+filepath.Join(p.home, "state"), "LANTERN_SERVER="+p.server, "LANTERN_TOKEN=", "TZ=UTC", "NO_COLOR=1")
	return c
}

type said struct {
	out, err string
	code     int
}

func (p *person) does(args ...string) said {
	p.t.Helper()
	c := p.command(args...)
	var out, errOut bytes.Buffer
	c.Stdout, c.Stderr = &out, &errOut
	err := c.Run()
	if _, exited := err.(*exec.ExitError); err != nil && !exited {
		p.t.Fatal(err)
	}
	return said{out.String(), errOut.String(), c.ProcessState.ExitCode()}
}

func (p *person) wants(s said, code int, words ...string) {
	p.t.Helper()
	if s.code != code {
		p.t.Errorf("the exit code is %d, want %d; it said\n%s%s", s.code, code, s.out, s.err)
	}
	for _, w := range words {
		if !strings.Contains(s.out+s.err, w) {
			p.t.Errorf("it does not say %q, but\n%s%s", w, s.out, s.err)
		}
	}
}

func (p *person) writes(name, text string) {
	p.t.Helper()
	name = filepath.Join(p.home, name)
	mode := os.FileMode(0o644)
	if filepath.Base(filepath.Dir(name)) == "bin" {
		mode = 0o755
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		p.t.Fatal(err)
	}
	if err := os.WriteFile(name, []byte(text), mode); err != nil {
		p.t.Fatal(err)
	}
}

// serves starts the service and waits until it says where it is.
func (p *person) serves(args ...string) *exec.Cmd {
	p.t.Helper()
	c := p.command(append([]string{"serve", "--listen", strings.TrimPrefix(p.server, "http://")}, args...)...)
	c.Stderr = os.Stderr
	out, err := c.StdoutPipe()
	if err != nil {
		p.t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(func() {
		_ = c.Process.Kill()
		_ = c.Wait()
		p.endWorkers()
	})
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if strings.Contains(lines.Text(), "/sign-in#code=") {
			return c
		}
	}
	p.t.Fatal("the service ended before it said where it is")
	return nil
}

// endWorkers kills the workers of all data folders, which outlive their services.
func (p *person) endWorkers() {
	folders, _ := filepath.Glob(filepath.Join(p.home, "*", "worker"))
	for _, f := range folders {
		testkit.EndWorkers(filepath.Dir(f))
	}
}

func (p *person) run(id string) client.Run {
	p.t.Helper()
	s := p.does("show", id, "-o", "json")
	var run client.Run
	if err := json.Unmarshal([]byte(s.out), &run); err != nil {
		p.t.Fatalf("%v: %s%s", err, s.out, s.err)
	}
	return run
}

const project = "project: rivers\ndefaults: {env: {PLACE: Hallowick}}\n"

const gauges = `workflow: gauges
about: Read the gauges.
owner: hydrology
params: {level: {type: number, default: 1.5}}
tasks:
  collect: {exec: [bin/collect]}
  load: {after: collect, shell: 'echo "level $LANTERN_PARAM_LEVEL at $PLACE"; test "$LANTERN_PARAM_LEVEL" != 9'}
  report: {after: load, shell: 'echo done'}
`

func TestAFirstWorkflowInFiveMinutes(t *testing.T) {
	p := newPerson(t)
	p.writes("rivers/lantern.yaml", project)
	p.writes("rivers/workflows/gauges.yaml", gauges)
	p.writes("rivers/bin/collect", "#!/bin/sh\necho collected\n")
	p.wants(p.does("check", "rivers"), 0, "gauges: 3 tasks, started by people only; no mistakes")
	p.wants(p.does("outline", "rivers"), 0, "gauges  3 tasks in 3 waves", "longest chain collect → load → report", "3     report   shell  load")
	p.wants(p.does("schema"), 0, "https://json-schema.org/draft/2020-12/schema", "only_if")
	p.wants(p.does("workflows"), 3, "could not be reached", "lantern serve")
	p.wants(p.does("try", "rivers", "-p", "level=2"), 0, "● succeeded")
	p.wants(p.does("try", "rivers/workflows/gauges.yaml", "-p", "level=9", "--logs"), 1, "✕ failed", "What load printed:", "level 9 at Hallowick", "What collect printed:")
	p.wants(p.does("try", "rivers", "--workflow", "masts"), 2, "only [gauges]")
	p.wants(p.does("try", "rivers", "-p", "level=high"), 2, "is not of the type number")
	if left, _ := filepath.Glob(filepath.Join(os.TempDir(), "lantern-try-*")); len(left) > 0 {
		t.Errorf("try left %v behind", left)
	}
	p.serves()
	p.wants(p.does("workflows"), 0, "There are no workflows yet")
	p.wants(p.does("apply", "rivers", "--dry-run"), 0, "+ gauges would be new, version 1", "Nothing was applied")
	p.wants(p.does("runs", "gauges"), 2, `there is no workflow "gauges"`)
	p.wants(p.does("apply", "rivers"), 0, "+ gauges is new, version 1")
	p.wants(p.does("apply", "rivers/workflows/gauges.yaml"), 0, "= gauges stays as it is, version 1")
	p.wants(p.does("workflows", "gauges"), 0, "Read the gauges.", "param     level: number, by default 1.5", "load     shell  collect")
	p.wants(p.does("start", "gauges", "--follow"), 0, "● succeeded", "report", "◐ running")
	p.wants(p.does("start", "gauges", "-p", "level=9", "-f"), 1, "✕ failed", "○ unreached  it comes after load, which failed")
	p.wants(p.does("show", "gauges"), 0, "gauges:2  ✕ failed", "person (kari)", "exit code 1")
	p.wants(p.does("logs", "gauges:1", "load"), 0, "level 1.5 at Hallowick")
	p.wants(p.does("logs", "gauges", "load", "--times", "-f"), 0, "level 9 at Hallowick")
	p.wants(p.does("runs", "--state", "failed"), 0, "gauges:2", "● 1  ✕ 1  ○ 1")
	p.wants(p.does("watch", "gauges:2"), 1, "gauges:2", "✕ failed")
	p.wants(p.does("runs", "-o", "yaml"), 0, "attention: false", "- id: gauges:2")
	p.wants(p.does("rerun", "gauges:2"), 2, "say which tasks")
	p.wants(p.does("rerun", "gauges:2", "--failed", "--from", "load"), 2, "failed", "from")
	p.wants(p.does("rerun", "gauges:2", "--failed", "--dry-run"), 0, "2 tasks of gauges:2 would be made again (--dry-run): load, report")
	p.wants(p.does("rerun", "gauges", "--failed", "-p", "level=2", "-f"), 0, "✕ failed", "· idle  to be made again, asked by kari", "● succeeded")
	p.wants(p.does("logs", "gauges:2", "load", "--attempt", "1"), 0, "level 9 at Hallowick")
	p.wants(p.does("logs", "gauges:2", "load"), 0, "level 2 at Hallowick")
	p.wants(p.does("rerun", "gauges:2", "--only", "load", "-p", "level=9", "-f"), 1)
	p.wants(p.does("release", "gauges:2", "load"), 2, "has ended, so nothing in it is held")
	p.wants(p.does("capacity"), 0, "There are no capacities")
	p.wants(p.does("capacity", "set", "warehouse", "many"), 2, "is no number of units")
	p.wants(p.does("capacity", "set", "warehouse", "4"), 0, "warehouse has 4 units, 0 of them in use")
	p.wants(p.does("capacity"), 0, "warehouse  4      0       0")
	link := p.does("console")
	p.wants(link, 0, p.server+"/sign-in#code=")
	run := p.run("gauges:2")
	if run.ID != "gauges:2" || run.State != "failed" || run.Params["level"] != 9.0 || len(run.Tasks) != 3 || run.Tasks[1].Attempts[0].Number != 1 {
		t.Errorf("%+v", run)
	}
}

func TestWhatIsWrongIsToldWithACode(t *testing.T) {
	p := newPerson(t)
	p.writes("bad.yaml", "workflow: w\ntasks:\n  a: {after: b, exec: [x]}\n  b: {after: a, exec: [y]}\n")
	p.writes("not.yaml", "workflow: [")
	p.writes("good.yaml", "workflow: good\ntasks: {a: {shell: 'true'}}\n")
	p.writes("empty/lantern.yaml", "project: p\n")
	p.writes("wrong-token", "wrong\n")
	p.wants(p.does("check", "bad.yaml", "not.yaml"), 2, "tasks come after each other in a circle: a after b after a", "this is not YAML", "2 mistakes")
	p.wants(p.does("check", "nowhere"), 2, "there is no file or folder nowhere")
	p.wants(p.does("check", "empty"), 2, "has no workflows; write one to empty/workflows/NAME.yaml")
	p.wants(p.does("check"), 2, "requires at least 1 arg", "See lantern check --help.")
	p.wants(p.does("strat", "good"), 2, "unknown command", "start")
	p.wants(p.does("runs", "--stat", "failed"), 2, "unknown flag")
	p.wants(p.does("runs", "-o", "xml"), 2, "write table, json or yaml")
	p.wants(p.does("serve", "--listen", "nonsense"), 2, "write HOST:PORT")
	p.wants(p.does("apply", "bad.yaml"), 2, "in a circle")
	p.serves()
	p.wants(p.does("apply", "good.yaml"), 0, "+ good is new")
	p.wants(p.does("start", "godo"), 2, `there is no workflow "godo"; did you mean "good"?`)
	p.wants(p.does("show", "good:1"), 2, `there is no run "good:1"`)
	p.wants(p.does("start", "good", "-p", "x"), 2, "write it as NAME=VALUE")
	p.wants(p.does("start", "good", "-p", "x=1"), 2, `there is no param "x"`)
	p.wants(p.does("start", "good", "--window", "today"), 2, "write START/END")
	p.wants(p.does("start", "good", "--follow"), 0)
	p.wants(p.does("logs", "good", "b"), 2, `there is no task "b"`)
	p.wants(p.does("logs", "good", "b", "-f"), 2, `there is no task "b"`)
	p.wants(p.does("runs", "--token-file", "wrong-token"), 4, "the token is not this service's")
	p.wants(p.does("runs", "--token-file", "nowhere"), 2, "the token cannot be read")
	// Another service may not take the folder, nor the address.
	p.wants(p.does("serve", "--listen", "127.0.0.1:0"), 1, "is in use by another service (process ", "--data")
	p.wants(p.does("serve", "--data", "other", "--listen", strings.TrimPrefix(p.server, "http://")), 1, "is in use; stop what listens there", "--listen")
	p.wants(p.does("serve", "--data", "good.yaml/data", "--listen", "127.0.0.1:0"), 1, "cannot be made", "--data")
	p.wants(p.does("show", "good", "--server", "http://127.0.0.1:1"), 3, "could not be reached")
}

// slow notes each attempt that it begins and each that it ends.
func slow(notes string) string {
	task := func(name, after string) string {
		return fmt.Sprintf("  %s: {%s shell: 'echo \"begin $LANTERN_RUN $LANTERN_TASK $LANTERN_ATTEMPT\" >> %s; sleep 0.3; echo \"end $LANTERN_RUN $LANTERN_TASK $LANTERN_ATTEMPT\" >> %s'}\n", name, after, notes, notes)
	}
	return "workflow: slow\nif_running: alongside\ntasks:\n" + task("a", "") + task("b", "after: a,") + task("c", "after: a,") + task("d", "after: [b, c],") + task("e", "after: d,")
}

// kill -9 in the middle, again and again: the runs end, each attempt is recorded
// once, and what is recorded is what the tasks themselves noted.
func TestKillingTheServiceLosesNothing(t *testing.T) {
	p := newPerson(t)
	notes := filepath.Join(p.home, "notes")
	p.writes("slow.yaml", slow(notes))
	service := p.serves("--slots", "6")
	p.wants(p.does("apply", "slow.yaml"), 0)
	const many = 4
	for range many {
		p.wants(p.does("start", "slow"), 0)
	}
	for i := range 6 {
		time.Sleep(time.Duration(150+i*97) * time.Millisecond)
		if err := service.Process.Kill(); err != nil {
			t.Fatal(err)
		}
		_ = service.Wait()
		if i%2 == 0 {
			p.endWorkers()
		}
		service = p.serves("--slots", "6")
	}
	for n := range many {
		p.wants(p.does("watch", fmt.Sprintf("slow:%d", n+1)), 0)
	}
	text, err := os.ReadFile(notes)
	if err != nil {
		t.Fatal(err)
	}
	noted := map[string]int{}
	for line := range strings.Lines(string(text)) {
		noted[strings.TrimSpace(line)]++
	}
	lost := 0
	for n := range many {
		run := p.run(fmt.Sprintf("slow:%d", n+1))
		for _, task := range run.Tasks {
			for i, a := range task.Attempts {
				name := fmt.Sprintf("%s %s %d", run.ID, task.Name, a.Number)
				begun, ended := noted["begin "+name], noted["end "+name]
				last := i == len(task.Attempts)-1
				switch {
				case a.Number != i+1:
					t.Errorf("%s stands as attempt %d", name, i+1)
				case begun > 1 || ended > 1:
					t.Errorf("%s was executed %d times", name, begun)
				case last && (a.State != "succeeded" || ended != 1):
					t.Errorf("%s is %s, and its task noted %d ends", name, a.State, ended)
				case !last && a.State != "lost":
					t.Errorf("%s is %s", name, a.State)
				}
				if a.State == "lost" {
					lost++
				}
				delete(noted, "begin "+name)
				delete(noted, "end "+name)
			}
		}
	}
	for name := range noted {
		t.Errorf("the tasks noted %q, and nothing of it is recorded", name)
	}
	if lost == 0 {
		t.Error("no attempt was cut off: the kills came at the wrong moments")
	}
	t.Logf("6 kills, %d attempts lost and made again", lost)
	if left, _ := filepath.Glob(filepath.Join(p.home, "lantern-data", "worker", "*", "attempts", "*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// A process that outlives its worker is ended by the next one, not doubled.
func TestAProcessOfBeforeIsEnded(t *testing.T) {
	p := newPerson(t)
	pids := filepath.Join(p.home, "pids")
	p.writes("w.yaml", "workflow: w\ntasks:\n  a: {shell: 'echo $$ >> "+pids+"; test $LANTERN_ATTEMPT = 2 || sleep 300'}\n")
	service := p.serves()
	p.wants(p.does("apply", "w.yaml"), 0)
	p.wants(p.does("start", "w"), 0)
	var pid int
	for pid == 0 {
		text, _ := os.ReadFile(pids)
		fmt.Sscan(string(text), &pid)
		time.Sleep(10 * time.Millisecond)
	}
	if err := service.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = service.Wait()
	p.endWorkers()
	if syscall.Kill(pid, 0) != nil {
		t.Fatal("the process did not outlive the worker, so there is nothing to be seen")
	}
	p.serves()
	p.wants(p.does("watch", "w"), 0)
	if state, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid)); err == nil && !strings.Contains(string(state), ") Z ") {
		t.Errorf("process %d is still there: %s", pid, state)
	}
	if run := p.run("w"); len(run.Tasks[0].Attempts) != 2 || run.Tasks[0].Attempts[0].State != "lost" {
		t.Errorf("%+v", run.Tasks[0])
	}
}

func TestSIGTERMEndsTheServiceWithinTenSeconds(t *testing.T) {
	p := newPerson(t)
	p.writes("w.yaml", "workflow: w\nif_running: alongside\ntasks:\n  deaf: {shell: 'test $LANTERN_ATTEMPT = 2 || { trap \"\" TERM; while :; do sleep 1; done; }'}\n  short: {shell: 'sleep 1; echo ended by itself'}\n")
	service := p.serves("--end-tasks")
	p.wants(p.does("apply", "w.yaml"), 0)
	p.wants(p.does("start", "w"), 0)
	time.Sleep(300 * time.Millisecond)
	began := time.Now()
	if err := service.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := service.Wait(); err != nil {
		t.Errorf("it ended with %v", err)
	}
	if took := time.Since(began); took > 10*time.Second {
		t.Errorf("it took %v", took)
	}
	p.serves()
	p.wants(p.does("watch", "w"), 0)
	run := p.run("w")
	if short := run.Tasks[1]; len(short.Attempts) != 1 || short.State != "succeeded" {
		t.Errorf("what ended in time is %+v", short)
	}
	if deaf := run.Tasks[0]; len(deaf.Attempts) != 2 || deaf.Attempts[0].State != "lost" || !strings.Contains(deaf.Attempts[0].Error, "worker was stopped") {
		t.Errorf("what did not is %+v", deaf)
	}
}

// Each command has help with examples, and the examples name commands that are.
func TestHelpHasExamples(t *testing.T) {
	p := newPerson(t)
	root := p.does("--help")
	p.wants(root, 0, "keeps watch", "lantern demo")
	commands := regexp.MustCompile(`(?m)^  ([a-z]+) +[A-Z]`).FindAllStringSubmatch(root.out, -1)
	if len(commands) < 16 {
		t.Fatalf("help lists only %v", commands)
	}
	known := map[string]bool{}
	for _, c := range commands {
		known[c[1]] = true
	}
	for name := range known {
		if name == "help" || name == "completion" {
			continue
		}
		help := p.does(name, "--help")
		p.wants(help, 0, "Examples:", "lantern "+name)
		for _, used := range regexp.MustCompile(`lantern ([a-z]+)`).FindAllStringSubmatch(help.out, -1) {
			if !known[used[1]] {
				t.Errorf("the help of %s names lantern %s, which is no command", name, used[1])
			}
		}
	}
}

func TestTheShellCompletesNames(t *testing.T) {
	p := newPerson(t)
	p.writes("w.yaml", "workflow: gauges\nabout: Read them.\ntasks: {collect: {shell: 'true'}, load: {shell: 'true'}}\n")
	p.serves()
	p.wants(p.does("apply", "w.yaml"), 0)
	p.wants(p.does("start", "gauges", "-f"), 0)
	p.wants(p.does("__complete", "start", ""), 0, "gauges\tRead them.")
	p.wants(p.does("__complete", "show", "gau"), 0, "gauges:1\tsucceeded")
	p.wants(p.does("__complete", "logs", "gauges:1", ""), 0, "collect\tsucceeded", "load")
}

// seesTheStorm follows what happens outside in the example: the hook of the weather
// office, the forecast that is slow, the duty officer, the crew; the scan; and the
// bulletin that waits for the whole day.
func (p *person) seesTheStorm() {
	p.t.Helper()
	until := func(want string, args ...string) {
		p.t.Helper()
		for deadline := time.Now().Add(30 * time.Second); !strings.Contains(p.does(args...).out, want); time.Sleep(100 * time.Millisecond) {
			if time.Now().After(deadline) {
				p.t.Fatalf("%v does not say %q: %+v", args, want, p.does(args...))
			}
		}
	}
	until("Publish a storm warning for the upper basin?", "waits")
	p.wants(p.does("waits"), 0, "load of gauge-hourly for each window in this one")
	p.wants(p.does("events"), 0, "hook weather", "made storm-watch:1", "nobody wanted it")
	p.wants(p.does("logs", "storm-watch:1", "forecast"), 0, "503 Service Unavailable", "its holds is false", "200 OK")
	p.wants(p.does("approve", "storm-watch:1", "alarm", "--reason", "the gauges agree"), 0)
	p.wants(p.does("watch", "storm-watch:1"), 0)
	until("succeeded", "show", "crew-call:1")
	p.wants(p.does("logs", "crew-call:1", "call"), 0, "Storm warning for the upper basin, by kari. the gauges agree")
	until("succeeded", "show", "board-scans:1")
	p.wants(p.does("logs", "board-scans:1", "read"), 0, "6 readings in")
	p.wants(p.does("datasets", "readings/boards"), 0, "read of board-scans:1", `"rows":6`)
	p.wants(p.does("rerun", "storm-watch:1", "--from", "publish", "--follow-on"), 0, "then crew-call:1: all of it, after storm-watch:1")
	until("2         ", "show", "crew-call:1") // its second attempt
	p.wants(p.does("show", "storm-watch:1"), 0, "then   crew-call:1 was made again after it")
	p.wants(p.does("show", "crew-call:2"), 2, "there are runs crew-call:1 to crew-call:1")
	p.wants(p.does("show", "day-bulletin:1"), 0, "waiting")
}

// The example's runs are there within a minute, worked on real data.
func TestTheExampleRuns(t *testing.T) {
	p := newPerson(t)
	c := p.command("demo", "--listen", strings.TrimPrefix(p.server, "http://"), "--hours", "12")
	c.Stderr = os.Stderr
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = c.Process.Signal(syscall.SIGTERM)
		_ = c.Wait()
	})
	deadline := time.Now().Add(time.Minute)
	var page client.Runs
	for {
		s := p.does("runs", "basin-daily", "-o", "json")
		if s.code == 0 && json.Unmarshal([]byte(s.out), &page) == nil && len(page.Runs) == 1 && page.Runs[0].Ended != nil {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("a minute is over: %+v", s)
		}
		time.Sleep(200 * time.Millisecond)
	}
	retried := 0
	for n := range 12 {
		run := p.run(fmt.Sprintf("gauge-hourly:%d", n+1))
		if run.State != "succeeded" {
			t.Errorf("%s is %s", run.ID, run.State)
		}
		if len(run.Tasks[0].Attempts) == 2 && strings.Contains(run.Tasks[0].Attempts[0].Error, "asked it to send again") {
			retried++
		}
		if index := run.Tasks[5].Result["index"]; index == nil || index.(float64) < 0.5 || index.(float64) > 6 {
			t.Errorf("%s has the flood index %v", run.ID, index)
		}
	}
	if p.run("recalibrate:2").State != "failed" || p.run("recalibrate:1").State != "succeeded" || page.Runs[0].State != "succeeded" {
		t.Error("the other workflows came out otherwise than they should")
	}
	store, err := filepath.Glob(filepath.Join(p.home, "lantern-demo", "river", "store", "*", "*.csv"))
	if err != nil || len(store) != 12 {
		t.Errorf("the store holds %d hours", len(store))
	}
	before := map[string]string{}
	for _, name := range store {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		before[name] = string(text)
	}
	p.seesTheStorm()
	// Working an hour again leaves the same.
	w := p.run("gauge-hourly:3").Window
	p.wants(p.does("start", "gauge-hourly", "--window", w.Start.Format(time.RFC3339)+"/"+w.End.Format(time.RFC3339), "-f"), 0)
	for name, text := range before {
		if again, err := os.ReadFile(name); err != nil || string(again) != text {
			t.Errorf("%s differs after its hour was worked again (%v)", name, err)
		}
	}
	t.Logf("%d of 12 hours were late and collected on a further attempt", retried)
}

// gets asks the service for an address of its interface.
func (p *person) gets(path string) string {
	p.t.Helper()
	token, err := os.ReadFile(filepath.Join(p.home, "lantern-data", "token"))
	if err != nil {
		p.t.Fatal(err)
	}
	request, err := http.NewRequestWithContext(p.t.Context(), http.MethodGet, p.server+path, nil)
	if err != nil {
		p.t.Fatal(err)
	}
	request.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err.Error()
	}
	defer response.Body.Close()
	text, _ := io.ReadAll(response.Body)
	return string(text)
}

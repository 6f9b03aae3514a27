package service_test

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"wiselantern/client"
	"wiselantern/internal/testkit"
)

func TestASecretIsGivenToTasksAndNeverShown(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, "workflow: w\nparams: {key: {type: text, secret: true, pattern: '[a-z]+', required: true}}\ntasks: {a: {shell: 'test \"$LANTERN_PARAM_KEY\" = swordfish'}}")
	run := s.End(t, s.Begin(t, "w", "key=swordfish").ID)
	if run.State != "succeeded" || run.Params["key"] != "(secret)" {
		t.Errorf("%+v", run)
	}
	page, err := s.Runs(testkit.Context(t), client.RunsFilter{})
	if err != nil || page.Runs[0].Params["key"] != "(secret)" {
		t.Errorf("%+v %v", page, err)
	}
	w, err := s.Workflow(testkit.Context(t), "w")
	if err != nil || strings.Contains(fmt.Sprintf("%+v", w), "swordfish") {
		t.Errorf("%+v %v", w, err)
	}
	_, err = s.Client.Start(testkit.Context(t), "w", client.StartRequest{Texts: map[string]string{"key": "Sword1"}})
	if err == nil || strings.Contains(err.Error(), "Sword1") || !strings.Contains(err.Error(), "it is secret") {
		t.Errorf("%v", err)
	}
	if again, err := s.Rerun(testkit.Context(t), run.ID, client.RerunRequest{Only: []string{"a"}}); err != nil || len(again.Tasks) != 1 {
		t.Errorf("%+v %v", again, err)
	}
	if run := s.EndAgain(t, run.ID, run.Ended); run.State != "succeeded" {
		t.Errorf("made again it is %s", run.State)
	}
}

func TestHowTasksFail(t *testing.T) {
	s := testkit.Start(t)
	big := "head -c 300000 /dev/zero | tr '\\0' x"
	cases := []struct{ task, action, wanted string }{
		{"missing", "exec: [bin/nowhere]", "the program bin/nowhere does not exist; a path is relative to the project's folder"},
		{"not-in-path", "exec: [no-such-program-here]", "the program no-such-program-here is not in PATH"},
		{"without-slash", "exec: [note]", "the project has a file of that name: write ./note"},
		{"no-run-bit", "exec: [./note]", "the program ./note has no run bit; give it one (chmod +x ./note)"},
		{"a-folder", "exec: [./lib]", "./lib is a folder, not a program"},
		{"no-interpreter", "exec: [bin/strange]", "the interpreter in its first line does not exist"},
		{"exit-code", "shell: exit 7", "exit code 7"},
		{"first-failure-ends-it", "shell: 'false; echo went on'", "exit code 1"},
		{"signal", "shell: 'kill -9 $$'", "ended by SIGKILL, as the system does when memory runs out"},
		{"signal-inside", "shell: 'sh -c \"kill -11 $$\"; exit $?'", "ended by SIGSEGV"},
		{"timeout", "{shell: sleep 30, timeout: 200ms}", "over its timeout of 200ms"},
		{"result-not-json", `shell: 'echo rows > "$LANTERN_RESULT"'`, "its result is not a JSON object"},
		{"result-a-list", `shell: 'echo "[1]" > "$LANTERN_RESULT"'`, "its result is not a JSON object"},
		{"result-too-big", fmt.Sprintf(`shell: '{ printf "{\"a\": \""; %s; printf "\"}"; } > "$LANTERN_RESULT"'`, strings.ReplaceAll(big, "'", "''")), "its result has over 256 KB"},
	}
	text := "workflow: broken\ntasks:\n"
	for _, c := range cases {
		action := c.action
		if !strings.HasPrefix(action, "{") {
			action = "\n    " + action
		}
		text += "  " + c.task + ": " + action + "\n"
	}
	s.ApplyProject(t, text, map[string]string{"note": "a note\n", "lib/x": "x", "bin/strange": "#!/no/such/interpreter\n"})
	run := s.End(t, s.Begin(t, "broken").ID)
	for _, c := range cases {
		task := testkit.Task(t, run, c.task)
		if task.State != "failed" || !strings.Contains(task.Error, c.wanted) {
			t.Errorf("%s is %s: %q, want it to say %q", c.task, task.State, task.Error, c.wanted)
		}
	}
	for task, code := range map[string]int{"missing": 127, "no-run-bit": 126, "not-in-path": 127, "no-interpreter": 127, "exit-code": 7} {
		if got := testkit.Task(t, run, task).Attempts[0].ExitCode; got == nil || *got != code {
			t.Errorf("%s has exit code %v, want %d", task, got, code)
		}
	}
}

func TestWhatATaskLeftRunningIsEnded(t *testing.T) {
	s := testkit.Start(t)
	marker := filepath.Join(t.TempDir(), "alive")
	s.Apply(t, fmt.Sprintf(`
workflow: stray
tasks:
  leave: {shell: '(while :; do date > %s; sleep 0.05; done) & echo left one'}
`, marker))
	run := s.End(t, s.Begin(t, "stray").ID)
	if run.State != "succeeded" {
		t.Fatalf("%+v", run)
	}
	time.Sleep(100 * time.Millisecond)
	os.Remove(marker)
	time.Sleep(200 * time.Millisecond)
	if _, err := os.Stat(marker); err == nil {
		t.Error("a process of the task is still writing")
	}
}

func TestStoppingARunEndsItsProcesses(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, `
workflow: slow
tasks:
  wait: {shell: 'trap "echo told to end; exit 3" TERM; echo waiting; sleep 60 & wait'}
  beside: {shell: sleep 60}
  after: {after: wait, shell: 'true'}
`)
	run := s.Begin(t, "slow")
	s.Until(t, run.ID, func(r client.Run) bool { return r.Counts["running"] == 2 })
	for s.Log(t, run.ID, "wait", 1) == "" {
		time.Sleep(10 * time.Millisecond)
	}
	if _, err := s.Client.Stop(testkit.Context(t), run.ID, "beside"); err != nil {
		t.Fatal(err)
	}
	s.Until(t, run.ID, func(r client.Run) bool { return testkit.Task(t, r, "beside").State == "stopped" })
	if _, err := s.Client.Stop(testkit.Context(t), run.ID, ""); err != nil {
		t.Fatal(err)
	}
	ended := s.End(t, run.ID)
	if ended.State != "stopped" || ended.Counts["stopped"] != 3 {
		t.Fatalf("%+v", ended)
	}
	wait := testkit.Task(t, ended, "wait")
	if wait.Reason != "stopped by kari" || wait.Attempts[0].State != "stopped" {
		t.Errorf("%+v", wait)
	}
	if log := s.Log(t, run.ID, "wait", 1); !strings.Contains(log, "told to end") {
		t.Errorf("it was not given the time to end:\n%s", log)
	}
	_, err := s.Client.Stop(testkit.Context(t), run.ID, "")
	if err == nil || !strings.Contains(err.Error(), "run slow:1 has ended already") {
		t.Errorf("stopping it again: %v", err)
	}
}

func TestOutputSurvivesByteForByte(t *testing.T) {
	s := testkit.Start(t)
	want := filepath.Join(t.TempDir(), "bytes")
	var content bytes.Buffer
	for i := range 256 {
		content.WriteByte(byte(i))
	}
	content.WriteString("\n\n" + strings.Repeat("long", 50_000) + "\n" + strings.Repeat("x", 64<<10) + "\n" + strings.Repeat("y", 128<<10) + "\nno end\n")
	if err := os.WriteFile(want, content.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	s.Apply(t, fmt.Sprintf("workflow: bytes\ntasks:\n  print: {exec: [cat, %s]}\n  open-end: {shell: 'printf \"no line feed\"; printf \"nor here\" >&2'}\n", want))
	run := s.End(t, s.Begin(t, "bytes").ID)
	body, err := s.RawLog(testkit.Context(t), run.ID, "print", 1)
	if err != nil {
		t.Fatal(err)
	}
	defer body.Close()
	got, err := io.ReadAll(body)
	if err != nil || !bytes.Equal(got, content.Bytes()) {
		t.Errorf("%d bytes went in and %d came out (%v)", content.Len(), len(got), err)
	}
	page, err := s.Lines(testkit.Context(t), run.ID, "print", 1, 0)
	if err != nil {
		t.Fatal(err)
	}
	first := page.Lines[1] // behind the line feed among the bytes
	if first.Bytes == nil || !strings.Contains(first.Text, "\uFFFD") {
		t.Errorf("a line that is no UTF-8 comes as %+v", first)
	}
	if log := s.Log(t, run.ID, "open-end", 1); !strings.Contains(log, "out no line feed\n") || !strings.Contains(log, "err nor here\n") {
		t.Errorf("%q", log)
	}
}

func TestALoudTaskIsHeldBackAlone(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, `
workflow: loud
if_running: alongside
tasks:
  print: {shell: 'yes "the gauge at Hallowick reports 1.32 m and rising" | head -c 300000000'}
`)
	s.Apply(t, "workflow: quiet\nif_running: alongside\ntasks: {a: {shell: 'echo hi'}}")
	before := held()
	loud := s.Begin(t, "loud")
	var most uint64
	var slowest time.Duration
	for {
		began := time.Now()
		quiet := s.End(t, s.Begin(t, "quiet").ID)
		slowest = max(slowest, time.Since(began))
		if quiet.State != "succeeded" {
			t.Fatalf("%+v", quiet)
		}
		most = max(most, held())
		run, err := s.Run(testkit.Context(t), loud.ID)
		if err != nil {
			t.Fatal(err)
		}
		if run.Ended != nil {
			if run.State != "succeeded" {
				t.Fatalf("%+v", run)
			}
			break
		}
	}
	body, err := s.RawLog(testkit.Context(t), loud.ID, "print", 1)
	if err != nil {
		t.Fatal(err)
	}
	defer body.Close()
	if n, err := io.Copy(io.Discard, body); n != 300_000_000 && n != 300_000_001 || err != nil {
		t.Errorf("%d bytes came back (%v)", n, err)
	}
	if most > before+150<<20 {
		t.Errorf("of 300 MB of output %d MB were held in memory at once", (most-before)>>20)
	}
	t.Logf("held at most %d MB, %d MB of them before; the slowest quiet run beside it took %v", most>>20, before>>20, slowest)
}

// held is what is still in use once the garbage is gone, in bytes: how much
// garbage there is hangs on how fast the machine is.
func held() uint64 {
	runtime.GC()
	var memory runtime.MemStats
	runtime.ReadMemStats(&memory)
	return memory.HeapAlloc
}

func TestFilesOfTheProjectAreReadOnly(t *testing.T) {
	s := testkit.Start(t)
	s.ApplyProject(t, `
workflow: w
tasks:
  look: {shell: 'stat -c %A word; mv word old; echo new > word; cat word'}
  again: {after: look, shell: cat word}
`, map[string]string{"word": "as applied\n"})
	run := s.End(t, s.Begin(t, "w").ID)
	if got := s.Log(t, run.ID, "look", 1); got != "out -r--r--r--\nout new\n" {
		t.Errorf("%q", got)
	}
	if got := s.Log(t, run.ID, "again", 1); got != "out as applied\n" {
		t.Errorf("the next attempt found %q", got)
	}
}

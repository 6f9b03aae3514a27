package cli_test

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	_ "github.com/mattn/go-sqlite3"

	"wiselantern/client"
)

// Everything that can be awaited is awaited, by a service that is killed meanwhile;
// what comes after the next start releases it. And each start makes its run.
func TestKillingTheServiceForgetsNothingThatIsAwaited(t *testing.T) {
	p := newPerson(t)
	var ready atomic.Bool
	partner := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, `{"ready": %v}`, ready.Load())
	}))
	defer partner.Close()
	inbox := filepath.Join(p.home, "inbox")
	if err := os.Mkdir(inbox, 0o755); err != nil {
		t.Fatal(err)
	}
	p.writes("w.yaml", fmt.Sprintf(`workflow: waits
tasks:
  event: {wait: {event: permit, subject: G01}}
  file: {wait: {file: "inbox/*.csv", settle: 100ms}}
  dataset: {wait: {dataset: readings/raw}}
  other: {wait: {workflow: other, window: newest, task: load}}
  both: {wait: {all: {permit: {event: permit}, scan: {file: "inbox/*.scan", settle: 100ms}}}}
  http: {wait: {http: "%s", holds: answer.body.ready, check: 1s, growth: 1}}
  query: {wait: {query: "SELECT n FROM go", connection: local, check: 1s, growth: 1}}
  until: {wait: {until: "%s"}}
  ask: {approve: Go on?}
  late: {wait: {event: never}, timeout: 6s, on_timeout: skip}
---
workflow: other
if_running: alongside
tasks: {load: {shell: 'sleep 1', updates: [readings/raw]}}
---
workflow: by-event
if_running: alongside
starts: [{event: permit}]
tasks: {a: {shell: 'true'}}
---
workflow: by-file
if_running: alongside
starts: [{file: "inbox/*.csv", settle: 100ms}]
tasks: {a: {shell: 'true'}}
---
workflow: by-dataset
if_running: alongside
starts: [{dataset: readings/raw}]
tasks: {a: {shell: 'true'}}
---
workflow: by-workflow
if_running: alongside
starts: [{workflow: by-dataset}]
tasks: {a: {shell: 'true'}}
`, partner.URL, time.Now().Add(5*time.Second).UTC().Format(time.RFC3339)))
	service := p.serves()
	kill := func() {
		t.Helper()
		if err := service.Process.Kill(); err != nil {
			t.Fatal(err)
		}
		_ = service.Wait()
		service = p.serves()
	}
	p.wants(p.does("connection", "set", "local", "sqlite:"+filepath.Join(p.home, "go.db")), 0)
	p.wants(p.does("apply", "w.yaml"), 0)
	p.wants(p.does("start", "waits"), 0)
	for deadline := time.Now().Add(10 * time.Second); p.run("waits:1").Counts["waiting"] != 10 && time.Now().Before(deadline); {
		time.Sleep(20 * time.Millisecond)
	}
	kill()
	p.wants(p.does("waits"), 0, "the event permit of G01", "the file inbox/*.csv", "the data set readings/raw", "load of other", "scan: the file inbox/*.scan", partner.URL, "Go on?")
	p.wants(p.does("event", "send", "permit", "--subject", "G01", "--id", "1"), 0)
	p.writes("inbox/1.csv", "a\n")
	p.wants(p.does("start", "other"), 0)
	kill()
	p.wants(p.does("event", "send", "permit", "--subject", "G01", "--id", "1", "--source", "/terminal/kari"), 0, "had come before")
	p.writes("inbox/1.scan", "a\n")
	db, err := sql.Open("sqlite3", filepath.Join(p.home, "go.db"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("CREATE TABLE go (n INTEGER); INSERT INTO go VALUES (1)"); err != nil {
		t.Fatal(err)
	}
	db.Close()
	ready.Store(true)
	p.wants(p.does("approve", "waits:1", "ask", "--reason", "it is fine"), 0, "you said yes")
	kill()
	p.wants(p.does("watch", "waits:1"), 0)
	run := p.run("waits:1")
	for _, task := range run.Tasks {
		if want := map[bool]string{true: "skipped", false: "succeeded"}[task.Name == "late"]; task.State != want || len(task.Attempts) != 1 {
			t.Errorf("%s is %s after %d attempts: %s", task.Name, task.State, len(task.Attempts), task.Reason)
		}
	}
	for _, name := range []string{"by-event", "by-file", "by-dataset", "by-workflow"} {
		p.wants(p.does("watch", name+":1"), 0)
		p.wants(p.does("show", name+":2"), 2)
	}
}

// Events are sent while the service is killed again and again. Whatever it has
// acknowledged has made its run, once; what it has not is sent again with its id.
func TestKillingTheServiceAnswersEachEventOnce(t *testing.T) {
	p := newPerson(t)
	p.writes("w.yaml", "workflow: w\nif_running: alongside\nstarts: [{event: rain, params: {n: \"${event.id}\"}}]\nparams: {n: {type: text, default: none}}\ntasks: {a: {wait: {event: never}}}")
	service := p.serves()
	p.wants(p.does("apply", "w.yaml"), 0)
	stop := make(chan struct{})
	sent := make(chan int, 1)
	go func() {
		n := 0
		for {
			select {
			case <-stop:
				sent <- n
				return
			default:
			}
			for p.command("event", "send", "rain", "--id", fmt.Sprint(n), "--source", "/sender").Run() != nil {
				time.Sleep(10 * time.Millisecond)
			}
			n++
		}
	}()
	for i := range 6 {
		time.Sleep(time.Duration(120+37*i) * time.Millisecond)
		_ = service.Process.Kill()
		_ = service.Wait()
		service = p.serves()
	}
	close(stop)
	total := <-sent
	var page client.Runs
	if err := json.Unmarshal([]byte(p.does("runs", "w", "--limit", "500", "-o", "json").out), &page); err != nil {
		t.Fatal(err)
	}
	seen := map[string]int{}
	for _, r := range page.Runs {
		seen[fmt.Sprint(r.Params["n"])]++
	}
	for n := range total {
		if seen[fmt.Sprint(n)] != 1 {
			t.Errorf("event %d has %d runs", n, seen[fmt.Sprint(n)])
		}
	}
	if total < 10 || len(page.Runs) != total {
		t.Errorf("%d runs of %d events", len(page.Runs), total)
	}
	t.Logf("%d events, 6 kills", total)
	if s := p.does("events", "--unwanted"); strings.Contains(s.out, "rain") {
		t.Errorf("events that nobody wanted: %s", s.out)
	}
}

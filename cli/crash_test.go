package cli_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"wiselantern/client"
)

// Real work through the built binary, while its parts are ended by SIGKILL at moments
// that nobody has chosen. In the end, what the tasks themselves wrote is compared with
// what was recorded. LANTERN_KILLS says how often, LANTERN_SEED makes the moments again.

// kills is how many kills a test makes: a few, or as many as LANTERN_KILLS says.
func kills(few int) int {
	if n, err := strconv.Atoi(os.Getenv("LANTERN_KILLS")); err == nil {
		return n
	}
	return few
}

// killed tells when what was killed, for the case that something is wrong in the end.
func (p *person) killed(what string) {
	p.t.Helper()
	p.t.Logf("%s %s killed", time.Now().Format("15:04:05.000"), what)
}

func seeded(t *testing.T) *rand.Rand {
	seed := uint64(time.Now().UnixNano())
	if n, err := strconv.ParseUint(os.Getenv("LANTERN_SEED"), 10, 64); err == nil {
		seed = n
	}
	t.Logf("LANTERN_SEED=%d", seed)
	return rand.New(rand.NewPCG(seed, 0))
}

// work is a workflow whose tasks note when they begin and end: some that take a while, and
// many that are over at once, whose orders go out together and are fetched ahead. Behind
// each note stand the time and the folder it was written in, which is its worker's.
func work(notes, queue string) string {
	step := func(wait string) string {
		return fmt.Sprintf("'echo \"begin $LANTERN_RUN $LANTERN_TASK $LANTERN_ATTEMPT $(date +%%T.%%3N) $PWD\" >> %[1]s; %[2]secho line of $LANTERN_RUN; echo \"end $LANTERN_RUN $LANTERN_TASK $LANTERN_ATTEMPT $(date +%%T.%%3N) $PWD\" >> %[1]s; echo \"{\\\"of\\\": \\\"$LANTERN_RUN $LANTERN_TASK $LANTERN_ATTEMPT\\\"}\" > $LANTERN_RESULT'", notes, wait)
	}
	many := "[0"
	for n := 1; n < 20; n++ {
		many += fmt.Sprintf(", %d", n)
	}
	return fmt.Sprintf("workflow: work\nif_running: alongside\ndefaults: {queue: %s}\ntasks:\n  a: {shell: %[2]s}\n  b: {after: a, for_each: [x, y, z], shell: %[2]s}\n"+
		"  q: {after: a, for_each: %[4]s, shell: %[3]s}\n  r: {after: q, for_each: %[4]s, shell: %[3]s}\n  c: {after: [b, r], shell: %[2]s}\n", queue, step("sleep 0.15; "), step(""), many+"]")
}

// mostOpen is how many runs are open at most while others are started: what is behind them
// would only wait.
const mostOpen = 40

// feed starts runs until it is told to stop, and tells how many were acknowledged.
func (p *person) feed(stop <-chan struct{}) (acknowledged map[string]bool) {
	acknowledged = map[string]bool{}
	for {
		select {
		case <-stop:
			return acknowledged
		case <-time.After(60 * time.Millisecond):
		}
		open, err := p.command("runs", "work", "--state", "queued,running", "--limit", strconv.Itoa(mostOpen), "-o", "json").Output()
		var page client.Runs
		if err != nil || json.Unmarshal(open, &page) != nil || len(page.Runs) == mostOpen {
			continue
		}
		c := p.command("start", "work", "-o", "json")
		out, err := c.Output()
		var run client.Run
		if err == nil && json.Unmarshal(out, &run) == nil {
			acknowledged[run.ID] = true
		}
	}
}

// allRuns lists the runs of the workflow, all pages of them.
func (p *person) allRuns(options ...string) (all []client.Run) {
	p.t.Helper()
	args := append([]string{"runs", "work", "--limit", "500", "-o", "json"}, options...)
	for more := []string(nil); ; {
		var page client.Runs
		s := p.does(append(args, more...)...)
		if err := json.Unmarshal([]byte(s.out), &page); err != nil {
			p.t.Fatalf("%v: %s%s", err, s.out, s.err)
		}
		all = append(all, page.Runs...)
		if page.Next == "" {
			return all
		}
		more = []string{"--before", page.Next}
	}
}

// compare waits for the end of all runs and compares them with what their tasks noted.
func (p *person) compare(notes string, acknowledged map[string]bool) (tasks, lost int) {
	p.t.Helper()
	fewest, moved := -1, time.Now()
	for time.Since(moved) < 2*time.Minute {
		if open := len(p.allRuns("--state", "queued,running")); open < fewest || fewest < 0 {
			fewest, moved = open, time.Now()
		}
		if fewest == 0 {
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	if fewest > 0 {
		p.t.Fatalf("%d runs do not end, and none of them has for two minutes:\n%s", fewest, p.does("runs", "work").out)
	}
	text, err := os.ReadFile(notes)
	if err != nil {
		p.t.Fatal(err)
	}
	noted := map[string][]string{} // when and where
	for line := range strings.Lines(string(text)) {
		words := strings.SplitN(strings.TrimSpace(line), " ", 5)
		what := strings.Join(words[:min(4, len(words))], " ")
		noted[what] = append(noted[what], strings.Join(words[min(4, len(words)):], " "))
	}
	for _, r := range p.allRuns() {
		delete(acknowledged, r.ID)
		run := p.run(r.ID)
		if run.State != "succeeded" {
			p.t.Errorf("%s is %s", run.ID, run.State)
		}
		for _, task := range run.Tasks {
			if len(task.Attempts) == 0 {
				continue // it stands for its items
			}
			tasks++
			for i, a := range task.Attempts {
				name := fmt.Sprintf("%s %s %d", run.ID, task.Name, a.Number)
				begun, ended := noted["begin "+name], noted["end "+name]
				switch last := i == len(task.Attempts)-1; {
				case len(begun) > 1 || len(ended) > 1:
					p.t.Errorf("attempt %s was executed %d times: begun at %q, ended at %q; recorded: %+v", name, len(begun), begun, ended, a)
				case last && (a.State != "succeeded" || len(ended) != 1 || fmt.Sprint(task.Result["of"]) != name):
					p.t.Errorf("attempt %s is %s with the result %v, and it noted the ends %q", name, a.State, task.Result, ended)
				case !last && a.State != "lost":
					p.t.Errorf("attempt %s is %s, and there is another", name, a.State)
				}
				if a.State == "lost" {
					lost++
				}
				delete(noted, "begin "+name)
				delete(noted, "end "+name)
			}
		}
	}
	for id := range acknowledged {
		p.t.Errorf("%s was acknowledged and is not recorded", id)
	}
	for name, when := range noted {
		p.t.Errorf("a task noted %q at %q, and nothing of it is recorded", name, when)
	}
	return tasks, lost
}

func TestKillsOfServiceAndWorkerLoseNothing(t *testing.T) {
	p := newPerson(t)
	random := seeded(t)
	notes := filepath.Join(p.home, "notes")
	p.writes("work.yaml", work(notes, "main"))
	service := p.serves("--slots", "4")
	p.wants(p.does("apply", "work.yaml"), 0)
	stop := make(chan struct{})
	var acknowledged map[string]bool
	var feeding sync.WaitGroup
	feeding.Go(func() { acknowledged = p.feed(stop) })
	many, services, workers := kills(8), 0, 0
	for range many {
		time.Sleep(time.Duration(50+random.IntN(600)) * time.Millisecond)
		if which := random.IntN(3); which != 0 {
			p.killed("worker")
			p.endWorkers()
			workers++
			if which == 1 {
				continue
			}
		}
		p.killed("service")
		_ = service.Process.Kill()
		_ = service.Wait()
		services++
		service = p.serves("--slots", "4")
	}
	close(stop)
	feeding.Wait()
	runs := len(acknowledged)
	tasks, lost := p.compare(notes, acknowledged)
	t.Logf("%d kills of the service, %d of its worker; %d runs with %d tasks, %d attempts cut off and made again; nothing lost, nothing twice", services, workers, runs, tasks, lost)
	if runs == 0 || workers > 2 && lost == 0 {
		t.Error("the kills came at the wrong moments")
	}
}

// messageServers starts a cluster of three outside message servers, and returns their
// address and what kills and starts one again.
func (p *person) messageServers() (address string, again func(which int)) {
	p.t.Helper()
	program := filepath.Join(p.home, "nats-server")
	if out, err := exec.Command("go", "build", "-o", program, "github.com/nats-io/nats-server/v2").CombinedOutput(); err != nil {
		p.t.Fatalf("the message server cannot be built: %v\n%s", err, out)
	}
	port := func() int {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			p.t.Fatal(err)
		}
		defer l.Close()
		return l.Addr().(*net.TCPAddr).Port
	}
	var clients, routes []string
	var args [3][]string
	for i := range 3 {
		clientPort, routePort := port(), port()
		clients = append(clients, fmt.Sprintf("nats://127.0.0.1:%d", clientPort))
		routes = append(routes, fmt.Sprintf("nats://127.0.0.1:%d", routePort))
		args[i] = []string{"-n", fmt.Sprintf("m%d", i), "-a", "127.0.0.1", "-p", strconv.Itoa(clientPort), "-js", "-sd", filepath.Join(p.home, fmt.Sprintf("m%d", i)),
			"--cluster_name", "rivers", "--cluster", fmt.Sprintf("nats://127.0.0.1:%d", routePort)}
	}
	var running [3]*exec.Cmd
	start := func(i int) {
		running[i] = exec.Command(program, append(args[i], "--routes", strings.Join(routes, ","))...)
		if err := running[i].Start(); err != nil {
			p.t.Fatal(err)
		}
	}
	for i := range 3 {
		start(i)
	}
	p.t.Cleanup(func() {
		for _, c := range running {
			_ = c.Process.Kill()
			_ = c.Wait()
		}
	})
	return strings.Join(clients, ","), func(which int) {
		_ = running[which].Process.Kill()
		_ = running[which].Wait()
		time.Sleep(200 * time.Millisecond)
		start(which)
	}
}

// keptThrice looks whether orders and reports are on all three message servers.
func (p *person) keptThrice(address string) {
	p.t.Helper()
	nc, err := nats.Connect(address)
	if err != nil {
		p.t.Fatal(err)
	}
	defer nc.Close()
	js, err := jetstream.New(nc)
	if err != nil {
		p.t.Fatal(err)
	}
	for _, name := range []string{"LANTERN-ORDERS", "LANTERN-REPORTS"} {
		stream, err := js.Stream(p.t.Context(), name)
		if err != nil {
			p.t.Fatal(err)
		}
		if c := stream.CachedInfo().Config; c.Replicas != 3 || c.Storage != jetstream.FileStorage {
			p.t.Errorf("%s is kept %d times, in %v", name, c.Replicas, c.Storage)
		}
	}
}

// Three workers of other machines on a cluster of three message servers; servers, workers
// and the service are killed under load.
func TestKillsOfMessageServersLoseNothing(t *testing.T) {
	p := newPerson(t)
	random := seeded(t)
	address, killServer := p.messageServers()
	notes := filepath.Join(p.home, "notes")
	p.writes("work.yaml", work(notes, "field"))
	var service *exec.Cmd
	serve := func() { service = p.serves("--messages", address, "--slots", "1") }
	time.Sleep(2 * time.Second) // for the cluster to choose its leader
	serve()
	p.keptThrice(address)
	p.wants(p.does("apply", "work.yaml"), 0)
	names := []string{"field-1", "field-2", "field-3"}
	workers := map[string]*exec.Cmd{}
	for _, name := range names {
		workers[name] = p.joins(name, address, "--queue", "field", "--slots", "2")
	}
	stop := make(chan struct{})
	var acknowledged map[string]bool
	var feeding sync.WaitGroup
	feeding.Go(func() { acknowledged = p.feed(stop) })
	many := kills(5)
	count := map[string]int{}
	for i := range many {
		time.Sleep(time.Duration(300+random.IntN(900)) * time.Millisecond)
		switch what := random.IntN(4); {
		case i == 0 || what < 2:
			which := random.IntN(3)
			p.killed(fmt.Sprintf("message server %d", which))
			killServer(which)
			count["message servers"]++
			time.Sleep(3 * time.Second) // two of three must be there
		case what == 2:
			p.killed("service")
			_ = service.Process.Kill()
			_ = service.Wait()
			serve()
			count["services"]++
		default:
			name := names[random.IntN(3)]
			p.killed("worker " + name)
			_ = workers[name].Process.Kill()
			_ = workers[name].Wait()
			workers[name] = p.joins(name, address, "--queue", "field", "--slots", "2")
			count["workers"]++
		}
	}
	close(stop)
	feeding.Wait()
	runs := len(acknowledged)
	tasks, lost := p.compare(notes, acknowledged)
	t.Logf("killed: %v; %d runs with %d tasks, %d attempts cut off and made again; nothing lost, nothing twice", count, runs, tasks, lost)
	if runs == 0 {
		t.Error("no run was started")
	}
}

// A worker that is killed takes down what it executed, and no more: what it had fetched
// ahead of its slots had not begun, and is executed by the next one without a person's word.
func TestAKilledWorkerLosesOnlyWhatItExecuted(t *testing.T) {
	p := newPerson(t)
	p.serves("--end-tasks", "--slots", "2")
	const many = 600
	p.writes("w.yaml", "workflow: w\ntasks:\n  list:\n    shell: (printf '{\"all\":[1'; seq -f ',%g' 2 600; printf ']}') > $LANTERN_RESULT\n"+
		"  gauge: {after: list, for_each: task('list').result.all, at_once: 200, repeatable: false, exec: [sleep, '0.004']}\n")
	p.wants(p.does("apply", "w.yaml"), 0)
	p.wants(p.does("start", "w"), 0)
	counts := func() map[string]int {
		for _, task := range p.run("w:1").Tasks {
			if task.Name == "gauge" && task.Items != nil {
				return task.Items.Counts
			}
		}
		return map[string]int{}
	}
	until := func(what string, ok func(map[string]int) bool) map[string]int {
		t.Helper()
		for deadline := time.Now().Add(40 * time.Second); ; time.Sleep(20 * time.Millisecond) {
			now := counts()
			if ok(now) {
				return now
			}
			if time.Now().After(deadline) {
				t.Fatalf("%s: it does not come so far: %v", what, now)
			}
		}
	}
	until("before the kill", func(c map[string]int) bool { return c["succeeded"] > 100 })
	if err := syscall.Kill(p.workers(t)[0], syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	c := until("after the kill", func(c map[string]int) bool { return c["succeeded"]+c["held"] == many })
	if c["held"] > 2 {
		t.Errorf("of %d tasks with two slots: %v", many, c)
	}
}

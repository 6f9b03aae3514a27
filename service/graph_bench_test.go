package service_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"wiselantern/client"
	"wiselantern/internal/testkit"
)

// The graph of the benchmarks: layers of fifty tasks, each after two of the layer
// before.
const (
	graphWide  = 50
	graphSlots = 4
)

// graphAfter are the tasks that a task of the graph comes after, as places.
func graphAfter(place int) []int {
	if place < graphWide {
		return nil
	}
	above, column := place-place%graphWide-graphWide, place%graphWide
	return []int{above + column, above + (column+1)%graphWide}
}

// step is what each task of a graph does, in the words of a workflow, of make and of ninja.
type step struct{ workflow, makefile, ninja string }

var (
	nothing = step{"exec: [/bin/true]", "/bin/true", "/bin/true"}
	// It counts for about ten milliseconds.
	counting = step{"shell: 'i=0; while [ $i -lt 8000 ]; do i=$((i+1)); done'", "i=0; while [ $$i -lt 8000 ]; do i=$$((i+1)); done", "i=0; while [ $$i -lt 8000 ]; do i=$$((i+1)); done"}
)

// graph writes the same graph for the service, make and ninja.
func graph(name string, tasks int, does step) (workflow, makefile, ninja string) {
	var w, m, n strings.Builder
	fmt.Fprintf(&w, "workflow: %s\ntasks:\n", name)
	m.WriteString("all:")
	for i := range tasks {
		fmt.Fprintf(&m, " t%d", i)
	}
	m.WriteString("\n")
	fmt.Fprintf(&n, "rule does\n  command = %s\n", does.ninja)
	for i := range tasks {
		fmt.Fprintf(&w, "  t%d: {%s", i, does.workflow)
		fmt.Fprintf(&m, "t%d:", i)
		fmt.Fprintf(&n, "build t%d: does", i)
		if after := graphAfter(i); after != nil {
			fmt.Fprintf(&w, ", after: [t%d, t%d]", after[0], after[1])
			fmt.Fprintf(&m, " t%d t%d", after[0], after[1])
			fmt.Fprintf(&n, " t%d t%d", after[0], after[1])
		}
		w.WriteString("}\n")
		m.WriteString("\n\t@" + does.makefile + "\n")
		n.WriteString("\n")
	}
	return w.String(), m.String(), n.String()
}

// graphs are the same graph in all three forms: in a service, and in a folder.
type graphs struct {
	*testkit.Service
	name, dir string
}

func newGraphs(b *testing.B, s *testkit.Service, name string, tasks int, does step) graphs {
	b.Helper()
	g := graphs{s, name, b.TempDir()}
	workflow, makefile, ninja := graph(name, tasks, does)
	for name, text := range map[string]string{"Makefile": makefile, "build.ninja": ninja} {
		if err := os.WriteFile(filepath.Join(g.dir, name), []byte(text), 0o600); err != nil {
			b.Fatal(err)
		}
	}
	s.Apply(b, workflow)
	return g
}

// ours is how long it takes in the service.
func (g graphs) ours(b *testing.B) time.Duration {
	b.Helper()
	run, err := g.Client.Start(context.Background(), g.name, client.StartRequest{})
	if err != nil {
		b.Fatal(err)
	}
	run = ended(b, g.Service, run.ID)
	return run.Ended.Sub(run.Created)
}

// by is how long another program takes.
func (g graphs) by(b *testing.B, words ...string) time.Duration {
	b.Helper()
	command := exec.Command(words[0], append(words[1:], fmt.Sprintf("-j%d", graphSlots))...)
	command.Dir = g.dir
	began := time.Now()
	if out, err := command.CombinedOutput(); err != nil {
		b.Fatalf("%s: %v\n%.300s", words[0], err, out)
	}
	return time.Since(began)
}

// The same graph with tasks that each have something to do, beside make.
func BenchmarkGraphOfWork(b *testing.B) {
	g := newGraphs(b, testkit.Serve(b, b.TempDir(), "--slots", fmt.Sprint(graphSlots)), "graph-of-work", 1000, counting)
	for b.Loop() {
		var ours, withMake []time.Duration
		for range 3 {
			ours = append(ours, g.ours(b))
			withMake = append(withMake, g.by(b, "make", "-s"))
		}
		b.ReportMetric(median(ours).Seconds(), "s-graph-of-work")
		b.ReportMetric(median(withMake).Seconds(), "s-make")
		b.ReportMetric(median(ours).Seconds()/median(withMake).Seconds(), "x-make")
	}
}

// Five thousand tasks through the built binary, beside make and ninja on the same
// graph with as many jobs, process starts without anything around them, and durable
// commits, one after the other in the same run.
func BenchmarkGraph(b *testing.B) {
	const tasks = 5000
	s := testkit.Serve(b, b.TempDir(), "--slots", fmt.Sprint(graphSlots))
	g := newGraphs(b, s, fmt.Sprintf("graph-%d", tasks), tasks, nothing)
	for b.Loop() {
		var ours, withMake, withNinja, bare []time.Duration
		var service, worker float64
		for round := range 3 {
			if round == 1 {
				profile(b, s.Dir, syscall.SIGUSR1)
				service, worker = processorTime(b, s.Dir, "serve"), processorTime(b, s.Dir, "worker")
			}
			ours = append(ours, g.ours(b))
			if round == 1 {
				service, worker = processorTime(b, s.Dir, "serve")-service, processorTime(b, s.Dir, "worker")-worker
				profile(b, s.Dir, syscall.SIGUSR2)
			}
			withMake = append(withMake, g.by(b, "make", "-s"))
			withNinja = append(withNinja, g.by(b, "ninja", "--quiet"))
			bare = append(bare, bareStarts(b, tasks))
		}
		b.ReportMetric(median(ours).Seconds(), "s-graph")
		b.ReportMetric(median(withMake).Seconds(), "s-make")
		b.ReportMetric(median(withNinja).Seconds(), "s-ninja")
		b.ReportMetric(median(bare).Seconds(), "s-bare-starts")
		b.ReportMetric(median(ours).Seconds()/median(withMake).Seconds(), "x-make")
		b.ReportMetric(service, "s-processor-of-service")
		b.ReportMetric(worker, "s-processor-of-worker")
	}
}

// processes are those of a service and its worker, by their command.
func processes(b *testing.B, dir string) map[string]int {
	b.Helper()
	pids := map[string]int{}
	names, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, name := range names {
		text, err := os.ReadFile(name)
		words := strings.Split(string(text), "\x00")
		if err == nil && len(words) > 2 && strings.Contains(string(text), dir+"\x00") && (words[1] == "serve" || words[1] == "worker") {
			pids[words[1]], _ = strconv.Atoi(filepath.Base(filepath.Dir(name)))
		}
	}
	if len(pids) != 2 {
		b.Fatalf("the service and its worker are the processes %v", pids)
	}
	return pids
}

// processorTime is what one of them has used, in seconds, without the processes that it
// has started (proc(5), stat: utime and stime, in hundredths).
func processorTime(b *testing.B, dir, command string) float64 {
	b.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", processes(b, dir)[command]))
	if err != nil {
		b.Fatal(err)
	}
	fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
	user, _ := strconv.ParseFloat(fields[11], 64)
	system, _ := strconv.ParseFloat(fields[12], 64)
	return (user + system) / 100
}

// profile has the processes of a binary that was built for that begin or end a profile.
func profile(b *testing.B, dir string, signal syscall.Signal) {
	if os.Getenv("LANTERN_PROFILES") == "" {
		return
	}
	for _, pid := range processes(b, dir) {
		if err := syscall.Kill(pid, signal); err != nil {
			b.Fatal(err)
		}
	}
	time.Sleep(300 * time.Millisecond)
}

// ended waits for the end of a run that should succeed, and looks seldom: nobody watches
// what make does either.
func ended(b testing.TB, s *testkit.Service, id string) client.Run {
	b.Helper()
	for began := time.Now(); ; {
		time.Sleep(max(500*time.Millisecond, time.Since(began)/50))
		page, err := s.Client.Runs(context.Background(), client.RunsFilter{States: []string{"queued", "running"}})
		if err != nil {
			b.Fatal(err)
		}
		if slices.ContainsFunc(page.Runs, func(r client.Run) bool { return r.ID == id }) {
			continue
		}
		run, err := s.Client.RunFolded(context.Background(), id)
		if err != nil || run.State != "succeeded" {
			b.Fatalf("%v %s", err, run.State)
		}
		return run
	}
}

// bareStarts starts that many processes, some at once, and waits for each.
func bareStarts(b testing.TB, count int) time.Duration {
	began := time.Now()
	turns := make(chan struct{}, count)
	for range count {
		turns <- struct{}{}
	}
	close(turns)
	ended := make(chan error, graphSlots)
	for range graphSlots {
		go func() {
			var err error
			for range turns {
				if e := exec.Command("/bin/true").Run(); e != nil {
					err = e
				}
			}
			ended <- err
		}()
	}
	for range graphSlots {
		if err := <-ended; err != nil {
			b.Fatal(err)
		}
	}
	return time.Since(began)
}

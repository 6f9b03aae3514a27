package service_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
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

// graph writes the same graph for the service, make and ninja.
func graph(tasks int) (workflow, makefile, ninja string) {
	var w, m, n strings.Builder
	fmt.Fprintf(&w, "workflow: graph-%d\ntasks:\n", tasks)
	m.WriteString("all:")
	for i := range tasks {
		fmt.Fprintf(&m, " t%d", i)
	}
	m.WriteString("\n")
	n.WriteString("rule true\n  command = /bin/true\n")
	for i := range tasks {
		fmt.Fprintf(&w, "  t%d: {exec: [/bin/true]", i)
		fmt.Fprintf(&m, "t%d:", i)
		fmt.Fprintf(&n, "build t%d: true", i)
		if after := graphAfter(i); after != nil {
			fmt.Fprintf(&w, ", after: [t%d, t%d]", after[0], after[1])
			fmt.Fprintf(&m, " t%d t%d", after[0], after[1])
			fmt.Fprintf(&n, " t%d t%d", after[0], after[1])
		}
		w.WriteString("}\n")
		m.WriteString("\n\t@/bin/true\n")
		n.WriteString("\n")
	}
	return w.String(), m.String(), n.String()
}

// Five thousand tasks through the built binary, beside make and ninja on the same
// graph with as many jobs, process starts without anything around them, and durable
// commits, one after the other in the same run.
func BenchmarkGraph(b *testing.B) {
	const tasks = 5000
	workflow, makefile, ninja := graph(tasks)
	dir := b.TempDir()
	for name, text := range map[string]string{"Makefile": makefile, "build.ninja": ninja} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			b.Fatal(err)
		}
	}
	s := testkit.Serve(b, b.TempDir(), "--slots", fmt.Sprint(graphSlots))
	s.Apply(b, workflow)
	timed := func(name string, words ...string) time.Duration {
		command := exec.Command(words[0], words[1:]...)
		command.Dir = dir
		began := time.Now()
		if out, err := command.CombinedOutput(); err != nil {
			b.Fatalf("%s: %v\n%.300s", name, err, out)
		}
		return time.Since(began)
	}
	for b.Loop() {
		var ours, withMake, withNinja, bare []time.Duration
		for range 3 {
			run, err := s.Client.Start(context.Background(), fmt.Sprintf("graph-%d", tasks), client.StartRequest{})
			if err != nil {
				b.Fatal(err)
			}
			run, err = s.Client.FollowRun(context.Background(), run.ID, nil)
			if err != nil || run.State != "succeeded" {
				b.Fatalf("%v %s", err, run.State)
			}
			ours = append(ours, run.Ended.Sub(run.Created))
			withMake = append(withMake, timed("make", "make", "-s", fmt.Sprintf("-j%d", graphSlots)))
			withNinja = append(withNinja, timed("ninja", "ninja", "--quiet", fmt.Sprintf("-j%d", graphSlots)))
			bare = append(bare, bareStarts(b, tasks))
		}
		b.ReportMetric(median(ours).Seconds(), "s-graph")
		b.ReportMetric(median(withMake).Seconds(), "s-make")
		b.ReportMetric(median(withNinja).Seconds(), "s-ninja")
		b.ReportMetric(median(bare).Seconds(), "s-bare-starts")
		b.ReportMetric(median(ours).Seconds()/median(withMake).Seconds(), "x-make")
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

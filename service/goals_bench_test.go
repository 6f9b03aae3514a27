package service_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"wiselantern/client"
	"wiselantern/internal/testkit"
)

// From the end of a task to the start of the one after it, in a chain, beside twice a
// durable commit and the start of a process.
func BenchmarkFromATaskToTheNext(b *testing.B) {
	const tasks = 200
	var text strings.Builder
	text.WriteString("workflow: chain\ntasks:\n")
	for i := range tasks {
		fmt.Fprintf(&text, "  t%d: {exec: [/bin/true]", i)
		if i > 0 {
			fmt.Fprintf(&text, ", after: t%d", i-1)
		}
		text.WriteString("}\n")
	}
	s := testkit.Serve(b, b.TempDir(), "--slots", fmt.Sprint(graphSlots))
	s.Apply(b, text.String())
	commit := durableCommits(b)
	for b.Loop() {
		var gaps, commits, starts []time.Duration
		for range 3 {
			run, err := s.Client.Start(context.Background(), "chain", client.StartRequest{})
			if err != nil {
				b.Fatal(err)
			}
			run = ended(b, s, run.ID)
			for i := 1; i < tasks; i++ {
				gaps = append(gaps, run.Tasks[i].Started.Sub(*run.Tasks[i-1].Ended))
			}
			for range tasks {
				commits = append(commits, commit())
				began := time.Now()
				if err := exec.Command("/bin/true").Run(); err != nil {
					b.Fatal(err)
				}
				starts = append(starts, time.Since(began))
			}
		}
		bare := 2 * (median(commits) + median(starts))
		b.ReportMetric(median(gaps).Seconds()*1000, "ms-to-next")
		b.ReportMetric(bare.Seconds()*1000, "ms-2-commits-2-processes")
		b.ReportMetric(median(gaps).Seconds()/bare.Seconds(), "x-next")
	}
}

// manyItems is a workflow of about that many tasks: each of ten steps or more is made for
// each item of a list, and comes after the one before.
func manyItems(tasks int) string {
	steps := max(10, tasks/10_000)
	items := tasks/steps - 1 // a step is a task too
	var text strings.Builder
	fmt.Fprintf(&text, "workflow: items-%d\ntasks:\n  list:\n    shell: (printf '{\"all\":[1'; seq -f ',%%g' 2 %d; printf ']}') > $LANTERN_RESULT\n", tasks, items)
	for i := range steps {
		before := "list"
		if i > 0 {
			before = fmt.Sprintf("[list, t%d]", i-1)
		}
		fmt.Fprintf(&text, "  t%d: {for_each: task('list').result.all, after: %s, exec: [/bin/true]}\n", i, before)
	}
	return text.String()
}

// What a task costs in runs of a thousand, ten thousand and a hundred thousand tasks, one
// after the other on the same service; with LANTERN_LARGEST, in one of so many tasks too.
func BenchmarkCostOfATask(b *testing.B) {
	s := testkit.Serve(b, b.TempDir(), "--slots", fmt.Sprint(graphSlots))
	sizes := []int{1_000, 10_000, 100_000}
	turns := []int{1_000, 10_000, 100_000, 10_000, 1_000} // the machine is not always equally fast
	if largest, err := strconv.Atoi(os.Getenv("LANTERN_LARGEST")); err == nil {
		sizes, turns = append(sizes, largest), slices.Insert(turns, 3, largest)
	}
	for _, tasks := range sizes {
		s.Apply(b, manyItems(tasks))
	}
	for b.Loop() {
		took := map[int][]time.Duration{}
		for _, tasks := range turns {
			for range max(1, 10_000/tasks) { // the small ones more often
				run, err := s.Client.Start(context.Background(), fmt.Sprintf("items-%d", tasks), client.StartRequest{})
				if err != nil {
					b.Fatal(err)
				}
				run = ended(b, s, run.ID)
				took[tasks] = append(took[tasks], run.Ended.Sub(run.Created))
			}
		}
		cost := map[int]float64{}
		for _, tasks := range sizes {
			cost[tasks] = median(took[tasks]).Seconds() * 1000 / float64(tasks)
			b.ReportMetric(cost[tasks], fmt.Sprintf("ms-a-task-of-%d", tasks))
		}
		b.ReportMetric(cost[100_000]/cost[1_000], "x-large-run")
	}
}

// The memory of the service and its worker at rest, and what it costs to have a workflow
// come due and be begun, with few workflows and with many.
func BenchmarkWorkflows(b *testing.B) {
	for _, count := range []int{10, 1_000, 10_000} {
		b.Run(fmt.Sprintf("workflows=%d", count), func(b *testing.B) {
			s := testkit.Serve(b, b.TempDir(), "--slots", fmt.Sprint(graphSlots))
			for from := 0; from < count; from += 500 {
				var text strings.Builder
				for i := from; i < min(count, from+500); i++ {
					fmt.Fprintf(&text, "workflow: gauge-%05d\nstarts: [{every: 1d}]\ntasks: {read: {exec: [/bin/true]}, check: {after: read, exec: [/bin/true]}}\n---\n", i)
				}
				s.Apply(b, strings.TrimSuffix(text.String(), "---\n"))
			}
			time.Sleep(10 * time.Second) // for the garbage of applying to be collected
			service, worker := resident(b, s.Dir, "serve"), resident(b, s.Dir, "worker")
			for b.Loop() {
				var took []time.Duration
				for i := range 50 {
					run, err := s.Client.Start(context.Background(), fmt.Sprintf("gauge-%05d", i%count), client.StartRequest{})
					if err != nil {
						b.Fatal(err)
					}
					run, err = s.Client.FollowRun(context.Background(), run.ID, nil)
					if err != nil {
						b.Fatal(err)
					}
					took = append(took, run.Ended.Sub(run.Created))
				}
				b.ReportMetric(median(took).Seconds()*1000, "ms-a-run")
				b.ReportMetric(float64(service)/1e6, "MB-of-service")
				b.ReportMetric(float64(worker)/1e6, "MB-of-worker")
			}
		})
	}
}

// resident is the memory of one of the processes of a service in bytes, with what of it is
// on disk too (proc(5), status: VmRSS).
func resident(b *testing.B, dir, command string) int64 {
	b.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", processes(b, dir)[command]))
	if err != nil {
		b.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(text), "VmRSS:")
	kilobytes, err := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
	if err != nil {
		b.Fatal(err)
	}
	return kilobytes << 10
}

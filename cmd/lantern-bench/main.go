// Command lantern-bench reads what go test -bench prints, passes it on, and ends with one
// table of what was measured beside what it is compared with.
package main

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"regexp"
	"strconv"
	"strings"
)

// goal is a line of the table: a figure of ours, what it is compared with, and the most
// that it may be.
type goal struct {
	what      string
	benchmark string // as go test names it
	ours      string // the unit of the figure
	beside    string // the unit of what it is compared with; "" for the goal alone
	most      float64
}

var goals = []goal{
	{"5,000-task graph, s; beside `make -j4`", "BenchmarkGraph", "s-graph", "s-make", 1.5},
	{"the same; beside `ninja -j4`", "BenchmarkGraph", "s-graph", "s-ninja", 1},
	{"the same; beside 5,000 bare process starts", "BenchmarkGraph", "s-graph", "s-bare-starts", 0},
	{"the same layers with 1,000 tasks that work, s; beside `make -j4`", "BenchmarkGraphOfWork", "s-graph-of-work", "s-make", 0},
	{"a task's end to the next one's start, ms; beside 2 × (commit + process start)", "BenchmarkFromATaskToTheNext", "ms-to-next", "ms-2-commits-2-processes", 1},
	{"an event to its task, ms; beside 2 commits and a process start", "BenchmarkFromAnEventToItsTask", "ms-to-start", "ms-2-commits-1-process", 0},
	{"cost of a task, ms: 100,000-task run; beside 1,000-task runs", "BenchmarkCostOfATask", "ms-a-task-of-100000", "ms-a-task-of-1000", 1.1},
	{"the slowest page with 1,000,000 tasks, in a browser; beside an empty service, medians", "BenchmarkPagesWithAMillionTasks", "x-slowest-page", "", 1.5},
	{"listing and opening runs with 1,000,000 tasks; beside a service with only the runs that are listed, at the 99th percentile", "BenchmarkAnswersWithAMillionTasks", "x-slowest-answer", "", 1.5},
	{"10,000 workflows due at once: the latest begun, s", "BenchmarkTenThousandDueAtOnce", "s-late-at-most", "", 60},
	{"10,000 parked waits, bytes each", "BenchmarkParkedWaits/waits=10000", "B/wait", "", 5000},
	{"10,000 parked waits, goroutines", "BenchmarkParkedWaits/waits=10000", "goroutines", "", 0.5},
	{"memory at rest with 1,000 workflows, MB: the service", "BenchmarkWorkflows/workflows=1000", "MB-of-service", "", 100},
	{"the same: its worker", "BenchmarkWorkflows/workflows=1000", "MB-of-worker", "", 100},
}

func main() {
	text, err := io.ReadAll(io.TeeReader(os.Stdin, os.Stdout))
	if err != nil {
		fmt.Fprintln(os.Stderr, "lantern-bench: what go test prints cannot be read:", err)
		os.Exit(1)
	}
	fmt.Print("\n" + table(figures(string(text))))
	if strings.Contains(string(text), "\nFAIL") {
		os.Exit(1)
	}
}

var suffix = regexp.MustCompile(`-\d+$`) // the number of processors

// figures are the measured ones, by their benchmark and then by their unit.
func figures(text string) map[string]map[string]float64 {
	all := map[string]map[string]float64{}
	for lines := bufio.NewScanner(strings.NewReader(text)); lines.Scan(); {
		words := strings.Fields(lines.Text())
		if len(words) < 4 || !strings.HasPrefix(words[0], "Benchmark") {
			continue
		}
		of := map[string]float64{}
		for i := 2; i+1 < len(words); i += 2 {
			if value, err := strconv.ParseFloat(words[i], 64); err == nil {
				of[words[i+1]] = value
			}
		}
		all[suffix.ReplaceAllString(words[0], "")] = of
	}
	return all
}

// table is the goals in Markdown; what was not measured is left out.
func table(all map[string]map[string]float64) string {
	var out strings.Builder
	out.WriteString("| what | measured | beside | ratio | goal |\n| --- | ---: | ---: | ---: | --- |\n")
	for _, g := range goals {
		ours, measured := all[g.benchmark][g.ours]
		other, both := all[g.benchmark][g.beside]
		if !measured || g.beside != "" && !both {
			continue
		}
		beside, ratio, goal := "", "", ""
		judged := ours
		if both {
			judged = ours / other
			beside, ratio = short(other), strconv.FormatFloat(judged, 'f', 2, 64)
		}
		if g.most > 0 {
			verdict := "met"
			if judged > g.most {
				verdict = "not met"
			}
			goal = fmt.Sprintf("%s, %s", short(g.most), verdict)
			if g.most < 1 {
				goal = "none, " + verdict
			}
		}
		fmt.Fprintf(&out, "| %s | %s | %s | %s | %s |\n", g.what, short(ours), beside, ratio, goal)
	}
	return out.String()
}

// short is a figure with three digits that count.
func short(f float64) string {
	switch {
	case f >= 100 || f == float64(int(f)):
		return strconv.FormatFloat(f, 'f', 0, 64)
	case f >= 10:
		return strconv.FormatFloat(f, 'f', 1, 64)
	}
	return strconv.FormatFloat(f, 'f', 2, 64)
}

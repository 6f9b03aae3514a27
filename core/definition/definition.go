// Package definition is the file format: it reads workflows and projects from
// YAML or JSON, finds every mistake in them, and says where and how to mend it.
//
// It computes only and imports nothing of ours outside core; files come in as
// bytes. What it keeps true: a Workflow that it returns without problems can be
// run: its names are unique, its graph has no circle, its rules can come due
// and every value has its declared type.
package definition

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"slices"
	"strings"
)

// Workflow is a named graph of tasks, with what starts it. Everything that may
// be left out of the file is filled in: each task carries its own timeout,
// retry and env, whatever they were inherited from.
type Workflow struct {
	Name       string            `json:"workflow"`
	About      string            `json:"about,omitempty"`
	Owner      string            `json:"owner,omitempty"`
	Labels     []string          `json:"labels,omitempty"`
	Params     []Param           `json:"params,omitempty"`
	Setup      *Setup            `json:"setup,omitempty"` // of its project
	Starts     []Start           `json:"starts,omitempty"`
	Outside    []Outside         `json:"outside,omitempty"` // starts by something else than time
	OnlyIf     string            `json:"only_if,omitempty"` // a condition; if it is false, no run is made but by a person or a backfill
	IfRunning  IfRunning         `json:"if_running"`
	AtMost     int               `json:"at_most,omitempty"`    // runs that may go at once; 0 is what if_running says
	Priority   int               `json:"priority,omitempty"`   // its tasks take capacity before those of a lower one
	Deadline   Length            `json:"deadline,omitempty"`   // of a whole run; 0 is none
	DueBy      DueBy             `json:"due_by,omitempty"`     // when a run should be done; "" is no promise
	Resources  []Resource        `json:"resources,omitempty"`  // in the order of the file
	Tasks      []Task            `json:"tasks"`                // in the order of the file
	Result     map[string]string `json:"result,omitempty"`     // what a run of it leaves for the workflow that started it, with ${expressions}
	Watermarks []Watermark       `json:"watermarks,omitempty"` // values that outlive a run
}

// IfRunning says what a new run does while another of its workflow is going.
type IfRunning string

const (
	Queue     IfRunning = "queue"     // it waits its turn
	Alongside IfRunning = "alongside" // it runs beside the other
	Replace   IfRunning = "replace"   // the other is stopped, and then it begins
	Skip      IfRunning = "skip"      // it is not made, which is written down
)

// Task is a node of the graph.
type Task struct {
	Name        string            `json:"name"`
	About       string            `json:"about,omitempty"`
	After       []Dependency      `json:"after,omitempty"` // in the order of the file
	Join        Join              `json:"join"`
	Otherwise   string            `json:"otherwise,omitempty"`     // when the join cannot hold: skip, hold, fail; empty as its dependencies came out
	OnlyIf      string            `json:"only_if,omitempty"`       // a condition; if it is false, the task is skipped
	ForEach     string            `json:"for_each,omitempty"`      // a list; the task is made once for each of its items
	AtOnce      int               `json:"at_once,omitempty"`       // so many items at a time
	StopOnFirst bool              `json:"stop_on_first,omitempty"` // when an item fails, no more of them
	Within      []string          `json:"within,omitempty"`        // the resources that are open while it is made
	Kind        string            `json:"kind"`                    // the key of its kind: exec, shell, route, start, wait, approve
	Wait        *Wait             `json:"wait,omitempty"`
	Approve     *Approval         `json:"approve,omitempty"`
	OnTimeout   string            `json:"on_timeout,omitempty"` // of a wait or a question: fail, skip, yes, no
	Updates     []Dataset         `json:"updates,omitempty"`    // the data sets that it updates when it succeeds
	Start       *Inner            `json:"start,omitempty"`
	Route       []Rule            `json:"route,omitempty"` // in order; the first whose condition holds
	Exec        []string          `json:"exec,omitempty"`  // program and arguments, with ${expressions}
	Shell       string            `json:"shell,omitempty"` // a script for sh -e
	Env         map[string]string `json:"env,omitempty"`
	Timeout     Length            `json:"timeout"` // of one attempt; 0 is no limit
	Retry       Retry             `json:"retry"`
	Outcomes    []ExitCodes       `json:"outcomes,omitempty"` // of exit codes that mean something else than 0 and not 0
	Queue       string            `json:"queue,omitempty"`    // the line of work that workers take it from; "" is DefaultQueue
	Takes       map[string]int    `json:"takes,omitempty"`    // units of capacities, while an attempt is out
	MayFail     bool              `json:"may_fail,omitempty"` // its failure does not fail the run
	Repeatable  bool              `json:"repeatable"`         // it may be made again when nobody knows how far it came
}

// Inner is another workflow that a task starts.
type Inner struct {
	Workflow string            `json:"workflow"`
	Params   map[string]string `json:"params,omitempty"` // as on a command line, with ${expressions}; one that is only an expression keeps its type
	Window   string            `json:"window"`           // same: that of the run; none
	Wait     bool              `json:"wait"`             // the task ends with the run that it started
}

// Resource is opened before the first task that is within it begins, and closed
// after the last has settled.
type Resource struct {
	Name             string   `json:"name"`
	About            string   `json:"about,omitempty"`
	Within           []string `json:"within,omitempty"` // resources that are open while this one is
	Open             Task     `json:"open"`
	Close            Task     `json:"close"`
	CloseMustSucceed bool     `json:"close_must_succeed,omitempty"`
}

// OpenName is the name of the node that opens the resource. No task can have it.
func (r Resource) OpenName() string { return r.Name + ":open" }

// CloseName is the name of the node that closes the resource.
func (r Resource) CloseName() string { return r.Name + ":close" }

// Nodes are the tasks and, behind them, the opening and the closing of each
// resource, and what stands for tasks in the run of the window before, each as a
// task of its own.
func (w *Workflow) Nodes() []Task {
	nodes := slices.Clone(w.Tasks)
	for _, res := range w.Resources {
		nodes = append(nodes, res.Open, res.Close)
	}
	for _, name := range w.previous() {
		nodes = append(nodes, Task{Name: name, Kind: PreviousKind, Join: Join{Kind: "all"}, MayFail: true, Repeatable: true})
	}
	return nodes
}

// PreviousKind is the kind of the nodes that stand for tasks in the run of the
// window before.
const PreviousKind = "previous"

// previousSuffix is what such a task is called by.
const previousSuffix = "@previous"

// previous are the names of tasks in the run of the window before that tasks come
// after, each once.
func (w *Workflow) previous() (names []string) {
	for _, t := range w.Tasks {
		for _, d := range t.After {
			if strings.HasSuffix(d.Task, previousSuffix) && !slices.Contains(names, d.Task) {
				names = append(names, d.Task)
			}
		}
	}
	return names
}

// Rule is one rule of a route.
type Rule struct {
	If string   `json:"if,omitempty"` // a condition; empty in the else
	To []string `json:"to"`           // tasks that come after the route
}

// Retry shapes the further attempts of a task that failed.
type Retry struct {
	Times  int     `json:"times"`  // further attempts after the first, 0 to 100
	Pause  Length  `json:"pause"`  // before the second attempt
	Growth float64 `json:"growth"` // each pause is the one before times this, 1 to 100
	Cap    Length  `json:"cap"`    // the longest pause
	Spread float64 `json:"spread"` // each pause is made longer or shorter by up to this share, 0 to 1
}

// RunsAtOnce is how many runs of the workflow may go at once; 0 is any number.
func (w *Workflow) RunsAtOnce() int {
	if w.AtMost == 0 && w.IfRunning != Alongside {
		return 1
	}
	return w.AtMost
}

// Hash is the SHA-256 of everything that the workflow says, in hexadecimal. Two
// files that mean the same have the same hash, however they are written.
func (w *Workflow) Hash() string {
	text, err := json.Marshal(w)
	if err != nil {
		panic("a workflow is plain data: " + err.Error())
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// Task is the task of that name.
func (w *Workflow) Task(name string) (Task, bool) {
	for _, t := range w.Tasks {
		if t.Name == name {
			return t, true
		}
	}
	return Task{}, false
}

// Param is the parameter of that name.
func (w *Workflow) Param(name string) (Param, bool) {
	for _, p := range w.Params {
		if p.Name == name {
			return p, true
		}
	}
	return Param{}, false
}

// Package build defines workflows in Go, where the compiler knows the tasks that
// others come after, and writes them in the file format of Wise Lantern:
//
//	w := &build.Workflow{Name: "gauge-hourly", Starts: []build.Start{{Every: time.Hour}}}
//	collect := w.Exec("collect", "bin/collect")
//	load := w.Exec("load", "bin/load").After(collect)
//	w.Exec("mend", "bin/mend").When(load, build.Failed)
//	err := w.WriteYAML(os.Stdout)
//
// What is written has been checked as lantern check does it: a mistake is an
// error of the writing, with every one that there is. What the fields mean stands
// in docs/reference/definition.md; a field that has its zero value is left out.
package build

import (
	"bytes"
	"fmt"
	"io"
	"time"

	"github.com/goccy/go-yaml"

	"wiselantern/core/definition"
)

// Workflow is a graph of tasks, which Exec, Shell, Route, Start, Wait and
// Approve add to it.
type Workflow struct {
	Name       string
	About      string
	Owner      string
	Labels     []string
	Params     []Param
	Starts     []Start
	Outside    []Outside // starts by something else than time
	OnlyIf     string    // a condition in CEL for a run to be made by itself
	IfRunning  string    // queue, alongside, replace
	AtMost     int
	Priority   int
	Deadline   time.Duration
	DueBy      string // when a run should be done: a length after it was due, as "45m", or a time of day, as "07:00"
	Defaults   Settings
	Result     map[string]string
	Watermarks []Watermark

	resources []*Resource
	tasks     []*Task
}

// Param is a value that a run is given.
type Param struct {
	Name     string
	Type     string // text, number, whole, bool, date, moment, length, choice, list, object
	About    string
	Choice   []string // the values of a choice
	Of       string   // the type of a list's items
	Default  any
	Min, Max *float64
	Pattern  string
	Required bool
	Secret   bool
}

// Watermark is a value that a workflow keeps from run to run.
type Watermark struct {
	Name    string
	About   string
	Type    string
	Of      string
	Initial any
	Set     string
}

// Start is a time rule: exactly one of Every, Cron, RRule and At is set.
type Start struct {
	Every   time.Duration
	Cron    string
	RRule   string
	At      []string
	Between string   // as in 06:00..08:00
	On      []string // as in mon-fri
	Zone    string   // a name of the IANA time zone database; empty is UTC
	From    string
	Until   string
	Except  []string // dates and ranges of dates
	Delay   time.Duration
	Spread  time.Duration
	Covers  Covers
	Missed  string // each, newest, none
	Params  map[string]any
}

// Covers says what the windows of a start are, by one of its fields.
type Covers struct {
	Unit   string // day, week, month
	Length time.Duration
	Ends   time.Duration // with Length: from the moment of the rule
}

// Settings are what tasks may inherit.
type Settings struct {
	Env     map[string]string
	Timeout time.Duration
	Retry   *Retry
	Queue   string // the line of work that workers take tasks from; "" is what is inherited, else main
}

// Retry shapes further attempts; zero values are the standard ones.
type Retry struct {
	Times  int
	Pause  time.Duration
	Growth float64
	Cap    time.Duration
	Spread *float64 // a share, 0 to 1
}

// Doing is how a task, or the opening or closing of a resource, is done.
type Doing struct {
	About    string
	Settings                   // over those of the workflow
	Outcomes map[string]string // by exit codes, as in 3 or 64..74
	Takes    map[string]int    // units by capacities
	Once     bool              // it is held, not made again, when its worker is lost
	exec     []string
	shell    string
}

// Exec is a program with its arguments.
func Exec(words ...string) Doing { return Doing{exec: words} }

// Shell is a script for the POSIX shell.
func Shell(script string) Doing { return Doing{shell: script} }

// Task is a node of the graph. Its fields may be set until it is written.
type Task struct {
	Doing
	Join        string // all, any, first, or a number
	Otherwise   string // skip, hold, fail
	OnlyIf      string // a condition in CEL
	ForEach     string // a list in CEL
	AtOnce      int
	StopOnFirst bool
	MayFail     bool
	OnTimeout   string    // of a wait or a question: fail, skip, and of a question yes, no
	Updates     []Dataset // when it succeeds

	wait     []Awaited
	waitJoin string
	question *Question

	name   string
	after  []expected
	within []*Resource
	route  []Rule
	start  *Inner
}

// Name is the task's name.
func (t *Task) Name() string { return t.name }

type expected struct {
	task     *Task
	outcomes []Outcome
	previous bool // in the run of the window before
}

// Outcome is how a task came out.
type Outcome string

// The outcomes of a task; Clear is succeeded or skipped, Settled any.
const (
	Succeeded Outcome = "succeeded"
	Failed    Outcome = "failed"
	Skipped   Outcome = "skipped"
	Unreached Outcome = "unreached"
	Stopped   Outcome = "stopped"
	Clear     Outcome = "clear"
	Settled   Outcome = "settled"
)

// Exec adds a task that runs a program.
func (w *Workflow) Exec(name string, words ...string) *Task {
	return w.add(&Task{name: name, Doing: Exec(words...)})
}

// Shell adds a task that runs a script.
func (w *Workflow) Shell(name, script string) *Task {
	return w.add(&Task{name: name, Doing: Shell(script)})
}

// Rule is one rule of a route; without If it is the else.
type Rule struct {
	If string // a condition in CEL
	To []*Task
}

// Route adds a task that chooses among those that come after it. The rules are
// given once these are there.
func (w *Workflow) Route(name string) *Task { return w.add(&Task{name: name, route: []Rule{}}) }

// Choose adds rules to a route, and has their tasks come after it.
func (t *Task) Choose(rules ...Rule) *Task {
	t.route = append(t.route, rules...)
	return t
}

// Inner is another workflow that a task starts.
type Inner struct {
	Workflow string
	Params   map[string]string
	NoWindow bool // it has none, and not that of the run
	NoWait   bool // the task ends when the run is made
}

// Start adds a task that starts another workflow.
func (w *Workflow) Start(name string, inner Inner) *Task {
	return w.add(&Task{name: name, start: &inner})
}

func (w *Workflow) add(t *Task) *Task {
	w.tasks = append(w.tasks, t)
	return t
}

// After has the task come after others, each of which is to succeed.
func (t *Task) After(others ...*Task) *Task {
	for _, o := range others {
		t.When(o, Succeeded)
	}
	return t
}

// When has the task come after another one, which is to come out in one of the
// ways that are given.
func (t *Task) When(other *Task, outcomes ...Outcome) *Task {
	t.after = append(t.after, expected{other, outcomes, false})
	return t
}

// WhenPrevious has the task come after another one, or itself, in the run of the
// window before.
func (t *Task) WhenPrevious(other *Task, outcomes ...Outcome) *Task {
	t.after = append(t.after, expected{other, outcomes, true})
	return t
}

// Within has resources be open while the task is made.
func (t *Task) Within(resources ...*Resource) *Task {
	t.within = append(t.within, resources...)
	return t
}

// Resource is opened before the first task that is within it, and closed after
// the last.
type Resource struct {
	About            string
	Open, Close      Doing
	CloseMustSucceed bool

	name   string
	within []*Resource
}

// Resource adds a resource.
func (w *Workflow) Resource(name string, open, close Doing) *Resource {
	r := &Resource{name: name, Open: open, Close: close}
	w.resources = append(w.resources, r)
	return r
}

// Within has other resources be open while this one is.
func (r *Resource) Within(others ...*Resource) *Resource {
	r.within = append(r.within, others...)
	return r
}

// Check finds every mistake; the error is nil if there is none.
func (w *Workflow) Check() error {
	_, err := w.encode()
	return err
}

// WriteYAML checks the workflow and writes it as a YAML document.
func (w *Workflow) WriteYAML(to io.Writer) error {
	text, err := w.encode()
	if err == nil {
		_, err = to.Write(text)
	}
	return err
}

// WriteJSON checks the workflow and writes it as JSON, which lantern apply reads
// too.
func (w *Workflow) WriteJSON(to io.Writer) error {
	text, err := w.encode()
	if err != nil {
		return err
	}
	if text, err = yaml.YAMLToJSON(text); err != nil {
		return fmt.Errorf("write workflow %s as JSON: %w", w.Name, err)
	}
	_, err = to.Write(text)
	return err
}

func (w *Workflow) encode() ([]byte, error) {
	var out bytes.Buffer
	err := yaml.NewEncoder(&out, yaml.UseLiteralStyleIfMultiline(true), yaml.IndentSequence(true)).Encode(w.document())
	if err != nil {
		return nil, fmt.Errorf("write workflow %s: %w", w.Name, err)
	}
	if _, problems := definition.Load([]definition.File{{Path: w.Name + ".yaml", Text: out.String()}}); problems != nil {
		return nil, problems
	}
	return out.Bytes(), nil
}

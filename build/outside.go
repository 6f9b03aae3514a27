package build

import (
	"time"

	"github.com/goccy/go-yaml"
)

// Outside is a start that hangs on something other than time: exactly one of Event,
// Files, Datasets and Workflow is set.
type Outside struct {
	Event    string // a type, or the beginning of some, as in storm.*
	Source   string
	Subject  string
	Files    []string
	MinSize  string // as in 10kB
	Check    time.Duration
	Datasets []string
	All      bool // each of the data sets must have been updated, not any
	Workflow string
	Expect   []Outcome
	Where    string // a condition in CEL on event
	Params   map[string]string
	Settle   time.Duration
	Collect  time.Duration
}

// Awaited is one thing that a task waits for: exactly one of Event, Files, Dataset,
// Workflow, Until, HTTP and Query is set.
type Awaited struct {
	Name string // among several

	Event, Source, Subject, Where string

	Files   []string
	Settle  time.Duration
	Count   int
	MinSize string

	Dataset string
	Window  string // of a data set or a workflow: same, covering, newest

	Workflow, Task string
	Expect         []Outcome

	Until string

	HTTP, Method, Body string
	Headers            map[string]string
	Status             []string // as in 200, or 300..302

	Query, Connection string
	With              []string

	Holds  string // a condition in CEL on answer, or on rows
	Check  time.Duration
	Growth float64
	Cap    time.Duration
}

// Question is what a person is asked.
type Question struct {
	Ask  string
	From []string
	Show map[string]string
	No   string // what a no makes of the task: skip, fail
}

// Dataset is a data set that a task updates.
type Dataset struct {
	Name        string
	About       string
	FreshWithin time.Duration
}

// Wait adds a task that waits for something outside.
func (w *Workflow) Wait(name string, thing Awaited) *Task {
	return w.add(&Task{name: name, wait: []Awaited{thing}})
}

// WaitAll adds a task that waits for several things, each with a name.
func (w *Workflow) WaitAll(name string, things ...Awaited) *Task {
	return w.add(&Task{name: name, wait: things, waitJoin: "all"})
}

// WaitAny adds a task that waits for one of several things, each with a name.
func (w *Workflow) WaitAny(name string, things ...Awaited) *Task {
	return w.add(&Task{name: name, wait: things, waitJoin: "any"})
}

// Approve adds a task that asks a person.
func (w *Workflow) Approve(name string, q Question) *Task {
	return w.add(&Task{name: name, question: &q})
}

func words(outcomes []Outcome) (text string) {
	for i, o := range outcomes {
		if i > 0 {
			text += "|"
		}
		text += string(o)
	}
	return text
}

func (o Outside) document() yaml.MapSlice {
	var k keys
	put(&k, "event", o.Event)
	k.list("file", o.Files)
	switch {
	case o.All:
		k.set("dataset", yaml.MapSlice{{Key: "all", Value: o.Datasets}})
	default:
		k.list("dataset", o.Datasets)
	}
	put(&k, "workflow", o.Workflow)
	put(&k, "expect", words(o.Expect))
	put(&k, "source", o.Source)
	put(&k, "subject", o.Subject)
	put(&k, "min_size", o.MinSize)
	k.length("check", o.Check)
	put(&k, "where", o.Where)
	sorted(&k, "params", o.Params)
	k.length("settle", o.Settle)
	k.length("collect", o.Collect)
	return yaml.MapSlice(k)
}

func (a Awaited) document() yaml.MapSlice {
	var k keys
	put(&k, "event", a.Event)
	put(&k, "source", a.Source)
	put(&k, "subject", a.Subject)
	put(&k, "where", a.Where)
	k.list("file", a.Files)
	k.length("settle", a.Settle)
	put(&k, "count", a.Count)
	put(&k, "min_size", a.MinSize)
	put(&k, "dataset", a.Dataset)
	put(&k, "workflow", a.Workflow)
	put(&k, "task", a.Task)
	put(&k, "window", a.Window)
	put(&k, "expect", words(a.Expect))
	put(&k, "until", a.Until)
	put(&k, "http", a.HTTP)
	put(&k, "method", a.Method)
	sorted(&k, "headers", a.Headers)
	put(&k, "body", a.Body)
	k.list("status", a.Status)
	put(&k, "query", a.Query)
	k.list("with", a.With)
	put(&k, "connection", a.Connection)
	put(&k, "holds", a.Holds)
	k.length("check", a.Check)
	put(&k, "growth", a.Growth)
	k.length("cap", a.Cap)
	return yaml.MapSlice(k)
}

// addOutside writes what a task has to do with what is outside.
func (t *Task) addOutside(k *keys) {
	switch {
	case t.waitJoin != "":
		var several keys
		for _, a := range t.wait {
			several.set(a.Name, a.document())
		}
		k.set("wait", yaml.MapSlice{{Key: t.waitJoin, Value: yaml.MapSlice(several)}})
	case t.wait != nil:
		k.set("wait", t.wait[0].document())
	}
	if q := t.question; q != nil {
		ask := keys{{Key: "ask", Value: q.Ask}}
		ask.list("from", q.From)
		sorted(&ask, "show", q.Show)
		put(&ask, "no", q.No)
		k.set("approve", yaml.MapSlice(ask))
	}
	put(k, "on_timeout", t.OnTimeout)
	if len(t.Updates) == 0 {
		return
	}
	var updates keys
	for _, d := range t.Updates {
		one := keys{}
		put(&one, "about", d.About)
		one.length("fresh_within", d.FreshWithin)
		updates.set(d.Name, yaml.MapSlice(one))
	}
	k.set("updates", yaml.MapSlice(updates))
}

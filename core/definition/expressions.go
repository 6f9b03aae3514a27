package definition

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"wiselantern/core/expr"
)

// Expressions of a file are compiled when its graph is known, because what they
// may speak of hangs on what is upstream.

// expected is an expression that waits to be compiled.
type expected struct {
	task string
	kind expectedKind
	at   *node
	text string
	with string // a name that is known besides
}

type expectedKind int

const (
	condition expectedKind = iota
	template
	list
	matching // a condition that is asked for each item of a task made for each
)

func (r *reader) expects(task string, kind expectedKind, at *node, text string) {
	r.expectsWith(task, kind, at, text, "")
}

// expectsWith is expects, where something of that name is known besides.
func (r *reader) expectsWith(task string, kind expectedKind, at *node, text, with string) {
	if at.kind == scalar && (kind != template || !expr.IsPlain(text)) {
		r.expected = append(r.expected, expected{task, kind, at, text, with})
	}
}

// route reads ordered rules {if, to} and an {else}.
func (r *reader) route(n *node, task, what string) (rules []Rule) {
	if n.kind != sequence || len(n.items) == 0 {
		r.problem(n, "write a list, as in [{if: params.fast, to: short}, {else: long}]", "route of %s is %s", what, n.kind)
		return nil
	}
	for i, item := range n.items {
		var rule Rule
		var when, to, otherwise *node
		if !r.keys(item, fmt.Sprintf("rule %d of route of %s", i+1, what), map[string]func(*node){
			"if":   func(n *node) { when, rule.If = n, r.text(n, "if") },
			"to":   func(n *node) { to, rule.To = n, r.targets(n) },
			"else": func(n *node) { otherwise, rule.To = n, r.targets(n) },
		}) {
			continue
		}
		switch {
		case otherwise != nil && (when != nil || to != nil):
			r.problem(otherwise, "make two rules of it", "rule %d of route of %s has else beside if or to", i+1, what)
		case otherwise != nil && i < len(n.items)-1:
			r.problem(otherwise, "put it last", "the rules behind the else of route of %s are never reached", what)
		case otherwise == nil && (when == nil || to == nil):
			r.problem(item, "write {if: CONDITION, to: TASK}, or {else: TASK}", "rule %d of route of %s is not whole", i+1, what)
		case when != nil:
			r.expects(task, condition, when, rule.If)
		}
		rules = append(rules, rule)
	}
	return rules
}

func (r *reader) targets(n *node) []string {
	if n.kind == sequence {
		return r.texts(n, "to")
	}
	return []string{r.text(n, "to")}
}

// expressions compiles what was read of one workflow, and checks where routes
// lead.
func (r *reader) expressions(w *Workflow) {
	waiting := r.expected
	r.expected = nil
	for _, task := range w.Tasks {
		for _, rule := range task.Route {
			for _, to := range rule.To {
				target, known := w.Task(to)
				if !known || !slices.ContainsFunc(target.After, func(d Dependency) bool { return d.Task == task.Name }) {
					message := fmt.Sprintf("the route %q leads to %q, which does not come after it", task.Name, to)
					fix := fmt.Sprintf("add after: %s to it", task.Name)
					if !known {
						message, fix = fmt.Sprintf("the route %q leads to %q, which does not exist", task.Name, to), "name a task that comes after it"
					}
					r.problemOf(task.Name, waiting, message, fix)
				}
			}
		}
	}
	if len(waiting) == 0 {
		return
	}
	env, err := NewExpressions(w)
	if err != nil {
		return // a param has no type yet, and that was told
	}
	ancestors := map[string]map[string]bool{}
	items := map[string]*expr.Env{}                                                                // of tasks made for each
	slices.SortStableFunc(waiting, func(a, b expected) int { return listFirst(a) - listFirst(b) }) // the others may speak of their items
	for _, x := range waiting {
		if ancestors[x.task] == nil {
			ancestors[x.task] = upstream(w, x.task)
		}
		scope := func(t expr.Task) bool {
			if t.Resource {
				return slices.Contains(w.resourcesOf(x.task), t.Name)
			}
			return ancestors[x.task][t.Name] || x.task == wholeRun
		}
		var mistakes []expr.Mistake
		in := env
		if items[x.task] != nil && (x.kind == template || x.kind == matching) {
			in = items[x.task]
		}
		if x.with != "" {
			if in, err = in.With(x.with); err != nil {
				panic("a variable more can be had in any environment: " + err.Error())
			}
		}
		switch x.kind {
		case condition, matching:
			if x.task == aRun {
				in = in.WithNew()
			}
			_, mistakes = in.Condition(x.text, scope)
		case list:
			var of *expr.Expression
			of, mistakes = env.List(x.text, scope)
			if items[x.task], err = env.WithItem(of); err != nil {
				panic("a variable more can be had in any environment: " + err.Error())
			}
		case template:
			_, mistakes = in.Template(x.text, scope)
		}
		for _, m := range mistakes {
			r.mistake(x.at, m)
		}
	}
}

func listFirst(x expected) int {
	if x.kind == list {
		return 0
	}
	return 1
}

// aStart and aRun stand for the task in expressions of a start, and in the
// condition for a run to be made: no task is known there.
const (
	aStart = "a start"
	aRun   = "a run"
)

// wholeRun stands for the task in expressions that speak of all tasks, when the
// run has ended.
const wholeRun = "the run"

// problemOf puts a problem at the first expression of a task, or at the file.
func (r *reader) problemOf(task string, waiting []expected, message, fix string) {
	for _, x := range waiting {
		if x.task == task {
			r.problem(x.at, fix, "%s", message)
			return
		}
	}
	r.whole(message, fix)
}

// mistake puts a mistake in an expression at its place in the file, as far as
// that is known: in a block of several lines it is the block's.
func (r *reader) mistake(at *node, m expr.Mistake) {
	column := at.column
	if m.Line == 1 && !strings.Contains(at.text, "\n") {
		column += m.Column - 1
		if at.quoted {
			column++
		}
	}
	r.in(r.of(at), at.line, column, m.Message, m.Fix)
}

// upstream are all tasks that come before one.
func upstream(w *Workflow, name string) map[string]bool {
	index := make(map[string]int, len(w.Tasks))
	for i, t := range w.Tasks {
		index[t.Name] = i
	}
	found := map[string]bool{}
	queue := []string{name}
	if _, ok := index[name]; !ok {
		return found // it is no task, but a resource, or the whole run
	}
	for len(queue) > 0 {
		for _, d := range w.Tasks[index[queue[0]]].After {
			if !found[d.Task] {
				found[d.Task] = true
				if _, within := index[d.Task]; within {
					queue = append(queue, d.Task)
				}
			}
		}
		queue = queue[1:]
	}
	return found
}

// NewExpressions is the environment in which the workflow's expressions are
// compiled.
func NewExpressions(w *Workflow) (*expr.Env, error) {
	var params []expr.Param
	for _, p := range w.Params {
		params = append(params, expr.Param{Name: p.Name, Type: p.Type, Of: p.Of, Nullable: !p.Required && p.Default == nil})
	}
	var tasks []expr.Task
	for _, t := range w.Tasks {
		tasks = append(tasks, expr.Task{Name: t.Name, Each: t.ForEach != ""})
	}
	for _, name := range w.previous() {
		tasks = append(tasks, expr.Task{Name: name})
	}
	for _, res := range w.Resources {
		tasks = append(tasks, expr.Task{Name: res.Name, Resource: true})
	}
	for _, m := range w.Watermarks {
		params = append(params, expr.Param{Name: m.Name, Type: m.Type, Of: m.Of, Nullable: m.Initial == nil, Watermark: true})
	}
	return expr.New(params, tasks)
}

// Compiled are the expressions of one task.
type Compiled struct {
	OnlyIf  *expr.Expression   // nil without one
	Route   []*expr.Expression // one a rule; nil in the else
	Exec    []*expr.Template
	Env     map[string]*expr.Template // only those that have an expression
	ForEach *expr.Expression          // nil without one
	Params  map[string]*expr.Template // of the workflow that it starts
	Await   []CompiledAwaited         // one for each thing that it waits for
	Ask     *expr.Template            // of a question
	Show    map[string]*expr.Template // beside it
}

// CompiledAwaited are the expressions of one thing that is awaited.
type CompiledAwaited struct {
	Of, With              []*expr.Template
	Source, Subject, Body *expr.Template
	Headers               map[string]*expr.Template
	Where, Holds          *expr.Expression // nil without one
}

// CompiledOutside are the expressions of a start that hangs on something other
// than time.
type CompiledOutside struct {
	Where  *expr.Expression // nil without one
	Params map[string]*expr.Template
}

// Expressions are the compiled expressions of a workflow.
type Expressions struct {
	Nodes  []Compiled                // in the order of Nodes
	Result map[string]*expr.Template // of the whole run
	Set    map[string]*expr.Template // of the watermarks

	OnlyIf  *expr.Expression  // of the workflow; nil without one
	Outside []CompiledOutside // in the order of Outside
}

// Compile compiles the expressions of a workflow that was read without problems;
// nil if it has none.
func (w *Workflow) Compile() (*Expressions, error) {
	nodes := w.Nodes()
	if w.Result == nil && w.Watermarks == nil && w.Outside == nil && w.OnlyIf == "" && !slices.ContainsFunc(nodes, Task.hasExpressions) {
		return nil, nil
	}
	env, err := NewExpressions(w)
	if err != nil {
		return nil, err
	}
	c := compiler{env: env}
	out := &Expressions{Nodes: make([]Compiled, len(nodes)), Result: c.templates(w.Result, always)}
	for _, m := range w.Watermarks {
		if m.Set != "" {
			if out.Set == nil {
				out.Set = map[string]*expr.Template{}
			}
			out.Set[m.Name] = c.template(m.Set)
		}
	}
	if w.OnlyIf != "" {
		c.env = env.WithNew()
		out.OnlyIf = c.condition(w.OnlyIf)
		c.env = env
	}
	for _, o := range w.Outside {
		one := CompiledOutside{Params: c.templates(o.Params, always)}
		if o.Where != "" {
			one.Where = c.condition(o.Where)
		}
		out.Outside = append(out.Outside, one)
	}
	for i, t := range nodes {
		one := &out.Nodes[i]
		c.env = env
		if t.OnlyIf != "" {
			one.OnlyIf = c.condition(t.OnlyIf)
		}
		for _, rule := range t.Route {
			var x *expr.Expression
			if rule.If != "" {
				x = c.condition(rule.If)
			}
			one.Route = append(one.Route, x)
		}
		if t.ForEach != "" {
			var mistakes []expr.Mistake
			one.ForEach, mistakes = env.List(t.ForEach, anyTask)
			c.note(t.ForEach, mistakes)
			if c.env, err = env.WithItem(one.ForEach); err != nil {
				return nil, err
			}
		}
		if slices.ContainsFunc(t.Exec, notPlain) {
			for _, word := range t.Exec {
				one.Exec = append(one.Exec, c.template(word))
			}
		}
		one.Env = c.templates(t.Env, notPlain)
		if t.Start != nil {
			one.Params = c.templates(t.Start.Params, always)
		}
		if t.Wait != nil {
			for _, a := range t.Wait.For {
				one.Await = append(one.Await, c.awaited(a))
			}
		}
		if t.Approve != nil {
			one.Ask, one.Show = c.template(t.Approve.Ask), c.templates(t.Approve.Show, always)
		}
	}
	return out, c.err
}

func (c *compiler) awaited(a Awaited) CompiledAwaited {
	out := CompiledAwaited{Source: c.template(a.Source), Subject: c.template(a.Subject), Body: c.template(a.Body), Headers: c.templates(a.Headers, always)}
	for _, text := range a.Of {
		if a.Kind == AwaitQuery {
			text = strings.ReplaceAll(text, "${", "$${") // there are no values in it
		}
		out.Of = append(out.Of, c.template(text))
	}
	for _, text := range a.With {
		out.With = append(out.With, c.template(text))
	}
	if a.Where != "" {
		out.Where = c.condition(a.Where)
	}
	if a.Holds != "" {
		before := c.env
		known := map[string]string{AwaitHTTP: "answer", AwaitQuery: "rows"}[a.Kind]
		var err error
		if c.env, err = c.env.With(known); err != nil && c.err == nil {
			c.err = err
		}
		out.Holds = c.condition(a.Holds)
		c.env = before
	}
	return out
}

func (t Task) hasExpressions() bool {
	if t.Parked() || t.OnlyIf != "" || t.Route != nil || t.ForEach != "" || t.Start != nil || slices.ContainsFunc(t.Exec, notPlain) {
		return true
	}
	for _, value := range t.Env {
		if notPlain(value) {
			return true
		}
	}
	return false
}

func notPlain(text string) bool { return !expr.IsPlain(text) }
func always(string) bool        { return true }
func anyTask(expr.Task) bool    { return true }

// compiler compiles what was checked before, and keeps the first error.
type compiler struct {
	env *expr.Env
	err error
}

func (c *compiler) condition(text string) *expr.Expression {
	x, mistakes := c.env.Condition(text, anyTask)
	c.note(text, mistakes)
	return x
}

func (c *compiler) template(text string) *expr.Template {
	t, mistakes := c.env.Template(text, anyTask)
	c.note(text, mistakes)
	return t
}

// templates compiles the values that are chosen; nil if there are none.
func (c *compiler) templates(texts map[string]string, chosen func(string) bool) (compiled map[string]*expr.Template) {
	for name, text := range texts {
		if chosen(text) {
			if compiled == nil {
				compiled = map[string]*expr.Template{}
			}
			compiled[name] = c.template(text)
		}
	}
	return compiled
}

func (c *compiler) note(text string, mistakes []expr.Mistake) {
	if len(mistakes) > 0 && c.err == nil {
		c.err = fmt.Errorf("%s: %s", text, mistakes[0].Message)
	}
}

// Native are the values in the types that expressions have for them.
func (v Values) Native(params []Param) map[string]any {
	native := make(map[string]any, len(params))
	for _, p := range params {
		value := v[p.Name]
		switch typed := value.(type) {
		case float64:
			if p.Type == "whole" {
				value = int64(typed)
			}
		case string:
			switch p.Type {
			case "moment":
				if at, err := time.Parse(time.RFC3339, typed); err == nil {
					value = at
				}
			case "length":
				if l, err := ParseLength(typed); err == nil {
					value = l.Duration()
				}
			}
		}
		native[p.Name] = value
	}
	return native
}

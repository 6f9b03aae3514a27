package definition

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"wiselantern/core/expr"
)

// Settings are what tasks inherit: from the project, then from the workflow's
// defaults, then from the task itself, each over the one before.
type Settings struct {
	Env     map[string]string
	Timeout Length
	Retry   Retry
	Queue   string // "" for the one that all workers take from who name no other
	Setup   *Setup // of the project; nil without one
}

// standard is what a task has that says nothing and inherits nothing: one
// attempt, no timeout. The shape of retry is here so that `retry: {times: 2}`
// is enough.
var standard = Settings{Retry: Retry{Times: 0, Pause: Length(10 * time.Second), Growth: 2, Cap: Length(10 * time.Minute), Spread: 0.1}}

// Parse reads the workflows of one file, one a YAML document. It returns every
// mistake, in the order of the file; a workflow with a mistake is not to be run.
func Parse(file, text string, inherited Settings) ([]*Workflow, Problems) {
	r := newReader(file, text)
	workflows := r.workflows(text, inherited)
	return workflows, r.problems.sorted()
}

func (r *reader) workflows(text string, inherited Settings) (workflows []*Workflow) {
	docs := r.documents(text)
	if docs == nil && r.problems == nil {
		r.whole("the file is empty", `begin with "workflow: NAME"`)
	}
	for _, doc := range docs {
		workflows = append(workflows, r.workflow(doc, inherited))
	}
	return workflows
}

func (r *reader) workflow(doc *node, inherited Settings) *Workflow {
	w := &Workflow{IfRunning: Queue}
	var name, defaults, resources, table, tasks *node
	ok := r.keys(doc, "the workflow", map[string]func(*node){
		"workflow": func(n *node) { name = n },
		"about":    func(n *node) { w.About = r.text(n, "about") },
		"owner":    func(n *node) { w.Owner = r.text(n, "owner") },
		"labels":   func(n *node) { w.Labels = r.texts(n, "labels") },
		"params":   func(n *node) { w.Params = r.params(n) },
		"starts":   func(n *node) { w.Starts, w.Outside = r.starts(n) },
		"only_if": func(n *node) {
			w.OnlyIf = r.text(n, "only_if")
			r.expects(aRun, condition, n, w.OnlyIf)
		},
		"if_running": func(n *node) {
			w.IfRunning = IfRunning(r.oneOf(n, "if_running", string(Queue), string(Alongside), string(Replace), string(Skip)))
		},
		"at_most":    func(n *node) { w.AtMost = int(r.whole64(n, "at_most", 1, 10_000)) },
		"priority":   func(n *node) { w.Priority = int(r.whole64(n, "priority", -100, 100)) },
		"deadline":   func(n *node) { w.Deadline = r.length(n, "deadline") },
		"due_by":     func(n *node) { w.DueBy = r.dueBy(n) },
		"defaults":   func(n *node) { defaults = n },
		"resources":  func(n *node) { resources = n },
		"table":      func(n *node) { table = n },
		"tasks":      func(n *node) { tasks = n },
		"watermarks": func(n *node) { w.Watermarks = r.watermarks(n) },
		"result":     func(n *node) { w.Result = r.result(n) },
	})
	if !ok {
		return w
	}
	if name == nil {
		r.problem(doc, `begin with "workflow: NAME"`, "the workflow has no name")
	} else {
		w.Name = r.name(name, "workflow", namePattern.MatchString)
	}
	if defaults != nil {
		inherited = r.settings(defaults, inherited)
	}
	if table != nil {
		if tasks = r.withTable(table, tasks); tasks == nil {
			return w
		}
	}
	if tasks == nil {
		r.problem(doc, `add "tasks:" with at least one task`, "the workflow has no tasks")
		return w
	}
	if resources != nil {
		r.resources(resources, w, inherited)
	}
	w.Setup = inherited.Setup
	r.checkStartParams(w)
	r.checkOutsideParams(w)
	r.tasks(tasks, w, inherited)
	for i := range r.inners {
		if r.inners[i].from == "" {
			r.inners[i].from = w.Name
		}
	}
	for i := range r.links {
		if r.links[i].from == "" {
			r.links[i].from = w.Name
		}
	}
	return w
}

func (r *reader) name(n *node, what string, valid func(string) bool) string {
	name := r.text(n, what)
	if n.kind == scalar && (!valid(name) || len(name) > longestName) {
		fix := fmt.Sprintf("write at most %d small letters, digits and -, beginning with a letter", longestName)
		if near := asName(name); valid(near) && len(near) <= longestName {
			fix = fmt.Sprintf("write %q", near)
		}
		article := "a"
		if strings.ContainsRune("aeiou", rune(what[0])) {
			article = "an"
		}
		r.problem(n, fix, "%q cannot be the name of %s %s", name, article, what)
	}
	return name
}

// asName is the text with what no name may hold put right, as far as it goes.
func asName(text string) string {
	return strings.Trim(strings.Map(func(c rune) rune {
		switch {
		case c >= 'a' && c <= 'z', c >= '0' && c <= '9', c == '-', c == '/':
			return c
		case c >= 'A' && c <= 'Z':
			return c + 'a' - 'A'
		case c == '_', c == ' ', c == '.':
			return '-'
		}
		return -1
	}, text), "-")
}

func (r *reader) zone(n *node, what string) string {
	name := r.text(n, what)
	if _, err := time.LoadLocation(name); err != nil || name == "" || name == "Local" {
		if n.kind == scalar {
			r.problem(n, "write a name of the IANA time zone database, as in Europe/Oslo", "%s: there is no zone %q", what, name)
		}
		return "UTC"
	}
	return name
}

func (r *reader) wrongAt(n *node) bool {
	file := r.of(n).file
	return slices.ContainsFunc(r.problems, func(p Problem) bool { return p.File == file && p.Line == n.line && p.Column == n.column })
}

func (r *reader) settings(n *node, s Settings) Settings {
	r.keys(n, "defaults", map[string]func(*node){
		"timeout": func(n *node) { s.Timeout = r.length(n, "timeout") },
		"retry":   func(n *node) { s.Retry = r.retry(n, s.Retry) },
		"queue":   func(n *node) { s.Queue = r.queue(n, "queue") },
		"env":     func(n *node) { s.Env = r.env(n, s.Env, "") },
	})
	return s
}

// DefaultQueue is the line of work of tasks that name no other.
const DefaultQueue = "main"

func (r *reader) queue(n *node, what string) string {
	name := r.text(n, what)
	switch {
	case name == "": // told already
	case !IsName(name):
		r.problem(n, "write small letters, digits and -, beginning with a letter, as in queue: upland", "%q cannot be the name of a queue", name)
	case name == DefaultQueue:
		return ""
	}
	return name
}

func (r *reader) retry(n *node, retry Retry) Retry {
	r.keys(n, "retry", map[string]func(*node){
		"times":  func(n *node) { retry.Times = int(r.whole64(n, "times of retry", 0, 100)) },
		"pause":  func(n *node) { retry.Pause = r.length(n, "pause of retry") },
		"growth": func(n *node) { retry.Growth = r.number(n, "growth of retry", 1, 100, false) },
		"cap":    func(n *node) { retry.Cap = r.length(n, "cap of retry") },
		"spread": func(n *node) { retry.Spread = r.number(n, "spread of retry", 0, 1, true) },
	})
	return retry
}

// env reads variables over the inherited ones: of a task, in whose values
// expressions may stand, or with task "" of all.
func (r *reader) env(n *node, inherited map[string]string, task string) map[string]string {
	env := maps.Clone(inherited)
	if env == nil {
		env = map[string]string{}
	}
	r.each(n, "env", func(key, value *node) {
		switch {
		case !envPattern.MatchString(key.text):
			r.problem(key, "write letters, digits and _, not beginning with a digit", "%q cannot be the name of a variable", key.text)
		case strings.HasPrefix(key.text, "LANTERN_"):
			r.problem(key, "choose another name", "%s: names that begin with LANTERN_ are the service's own", key.text)
		}
		env[key.text] = r.text(value, "the variable "+key.text)
		if task == "" && !expr.IsPlain(env[key.text]) {
			r.problem(value, "set it in the env of the tasks that need it", "the variable %s holds ${, and there is no expression for all tasks", key.text)
		} else if task != "" {
			r.expects(task, template, value, env[key.text])
		}
	})
	return env
}

func (r *reader) tasks(n *node, w *Workflow, inherited Settings) {
	places := map[string]*node{}
	edges := map[string][]dependency{}
	r.each(n, "tasks", func(key, value *node) {
		name := r.name(key, "task", taskPattern.MatchString)
		places[name] = key
		task, after := r.task(name, value, inherited)
		edges[name] = after
		w.Tasks = append(w.Tasks, task)
	})
	if n.kind == mapping && len(n.pairs) == 0 {
		r.problem(n, "add at least one task", "the workflow has no tasks")
	}
	r.graph(w, places, edges)
}

func (r *reader) task(name string, n *node, s Settings) (task Task, after []dependency) {
	task = Task{Name: name, Join: Join{Kind: "all"}, Repeatable: true}
	what := fmt.Sprintf("task %q", name)
	var join, otherwise, each, atOnce, stopOnFirst, onTimeout *node
	d := doing{task: &task, settings: &s, what: what}
	keys := r.doing(&d)
	maps.Copy(keys, map[string]func(*node){
		"after": func(n *node) { after = r.after(n, what) },
		"join":  func(n *node) { join, task.Join = n, r.join(n, what) },
		"otherwise": func(n *node) {
			otherwise, task.Otherwise = n, r.oneOf(n, "otherwise of "+what, otherwiseWords...)
		},
		"may_fail": func(n *node) { task.MayFail = r.bool(n, "may_fail of "+what) },
		"only_if": func(n *node) {
			task.OnlyIf = r.text(n, "only_if of "+what)
			r.expects(name, condition, n, task.OnlyIf)
		},
		"for_each": func(n *node) {
			each = n
			if n.kind == sequence { // the items themselves; JSON is CEL
				task.ForEach = show(n.any())
			} else {
				task.ForEach = r.text(n, "for_each of "+what)
			}
			if n.kind != mapping {
				r.expected = append(r.expected, expected{task: name, kind: list, at: n, text: task.ForEach})
			}
		},
		"at_once":       func(n *node) { atOnce, task.AtOnce = n, int(r.whole64(n, "at_once of "+what, 1, 10_000)) },
		"stop_on_first": func(n *node) { stopOnFirst, task.StopOnFirst = n, r.bool(n, "stop_on_first of "+what) },
		"within":        func(n *node) { task.Within = r.within(n, what) },
		"route":         d.kind("route", func(n *node) { task.Route = r.route(n, name, what) }),
		"start":         d.kind("start", func(n *node) { task.Start = r.inner(n, name, what) }),
		"wait":          d.kind("wait", func(n *node) { task.Wait = r.wait(n, name, what) }),
		"approve":       d.kind("approve", func(n *node) { task.Approve = r.approve(n, name, what) }),
		"on_timeout":    func(n *node) { onTimeout = n },
		"updates":       func(n *node) { task.Updates = r.updates(n, what) },
	})
	if slices.ContainsFunc(n.pairs, func(p pair) bool { return slices.Contains([]string{"start", "wait", "approve"}, p.key.text) }) {
		s = Settings{Retry: standard.Retry} // what is inherited is for programs
	}
	ok := r.keys(n, what, keys)
	task.Env, task.Timeout, task.Retry, task.Queue = s.Env, s.Timeout, s.Retry, s.Queue
	r.needs(after != nil, "after", what+" has %s and comes after nothing", map[string]*node{"join": join, "otherwise": otherwise})
	r.needs(each != nil, "for_each", what+" has %s and is not made for each of a list", map[string]*node{"at_once": atOnce, "stop_on_first": stopOnFirst})
	if each != nil && task.AtOnce == 0 {
		task.AtOnce = standardAtOnce
	}
	if each != nil && task.Kind == "route" {
		r.problem(each, "take for_each out, or make a task for it that the route comes after", "%s is a route, and chooses once", what)
	}
	if onTimeout != nil {
		words := onTimeoutWords
		if task.Kind == "approve" {
			words = append(slices.Clone(words), "yes", "no")
		}
		task.OnTimeout = r.oneOf(onTimeout, "on_timeout of "+what, words...)
	}
	r.needs(task.Timeout > 0, "timeout", what+" has %s and no time that could be over", map[string]*node{"on_timeout": onTimeout})
	if ok {
		r.oneKind(n, d, "exec, shell, route, start, wait, approve")
		r.parked(n, &task, onTimeout, what)
	}
	return task, after
}

// parked finds what says nothing in a task that no worker makes, and what says
// nothing in one that a worker does.
func (r *reader) parked(n *node, task *Task, onTimeout *node, what string) {
	if !task.Parked() {
		if onTimeout != nil {
			r.problem(onTimeout, "take it out; a program that takes longer than its timeout has failed", "%s has on_timeout and is neither a wait nor a question", what)
		}
		return
	}
	for _, p := range n.pairs {
		switch p.key.text {
		case "takes", "env", "outcomes", "repeatable", "queue":
			r.problem(p.key, "take it out", "%s has %s, and no worker makes it", what, p.key.text)
		}
	}
}

// standardAtOnce is how many items of a task go at once if it does not say: a
// long list does not keep everything else from the workers.
const standardAtOnce = 10

// needs tells of keys that say nothing without another one.
func (r *reader) needs(there bool, other, message string, keys map[string]*node) {
	for _, key := range sortedKeys(keys) {
		if at := keys[key]; at != nil && !there {
			r.problem(at, "add "+other+", or take it out", message, key)
		}
	}
}

// doing is what a task, or the opening or closing of a resource, does.
type doing struct {
	task     *Task
	settings *Settings
	what     string
	kinds    []*node
}

func (d *doing) kind(key string, read func(*node)) func(*node) {
	return func(n *node) {
		d.kinds = append(d.kinds, n)
		d.task.Kind = key
		read(n)
	}
}

// doing are the keys that say what is done and how.
func (r *reader) doing(d *doing) map[string]func(*node) {
	task, s, what := d.task, d.settings, d.what
	return map[string]func(*node){
		"about":      func(n *node) { task.About = r.text(n, "about of "+what) },
		"outcomes":   func(n *node) { task.Outcomes = r.exitCodes(n, what) },
		"takes":      func(n *node) { task.Takes = r.takes(n, what) },
		"repeatable": func(n *node) { task.Repeatable = r.bool(n, "repeatable of "+what) },
		"env":        func(n *node) { s.Env = r.env(n, s.Env, task.Name) },
		"timeout":    func(n *node) { s.Timeout = r.length(n, "timeout of "+what) },
		"retry":      func(n *node) { s.Retry = r.retry(n, s.Retry) },
		"queue":      func(n *node) { s.Queue = r.queue(n, "queue of "+what) },
		"exec":       d.kind("exec", func(n *node) { task.Exec = r.command(n, task.Name, what) }),
		"shell":      d.kind("shell", func(n *node) { task.Shell = r.script(n, what) }),
	}
}

func (r *reader) oneKind(n *node, d doing, kinds string) {
	switch {
	case len(d.kinds) == 0:
		r.problem(n, "give it one of: "+kinds, "%s does nothing", d.what)
	case len(d.kinds) > 1:
		r.problem(d.kinds[1], "make two tasks of it", "%s has two kinds", d.what)
	}
}

func (r *reader) command(n *node, task, what string) []string {
	if n.kind == scalar {
		r.problem(n, fmt.Sprintf("write exec: [%s], or use shell", strings.Join(strings.Fields(n.text), ", ")), "exec of %s is one text, not a list", what)
		return nil
	}
	if n.kind != sequence || len(n.items) == 0 {
		r.problem(n, "write the program and its arguments, as in [bin/load, --fast]", "exec of %s is empty", what)
		return nil
	}
	var words []string
	for i, item := range n.items {
		word := r.text(item, fmt.Sprintf("word %d of exec of %s", i+1, what))
		r.expects(task, template, item, word)
		words = append(words, word)
	}
	if n.items[0].kind == scalar && words[0] == "" {
		r.problem(n.items[0], "write the program's name or path", "exec of %s names no program", what)
	}
	return words
}

// longestScript is what fits into one argument of a program on Linux
// (MAX_ARG_STRLEN, 128 KiB), less room for the shell's own.
const longestScript = 120 << 10

// takes reads units by the names of capacities.
func (r *reader) takes(n *node, what string) map[string]int {
	units := map[string]int{}
	r.each(n, "takes of "+what, func(key, value *node) {
		name := r.name(key, "capacity", IsName)
		units[name] = int(r.whole64(value, fmt.Sprintf("what %s takes of %s", what, name), 1, 1_000_000))
	})
	return units
}

func (r *reader) script(n *node, what string) string {
	script := r.text(n, "shell of "+what)
	switch {
	case n.kind == scalar && strings.TrimSpace(script) == "":
		r.problem(n, "write a script", "shell of %s is empty", what)
	case len(script) > longestScript:
		r.problem(n, "put it into a file of the project and run that", "shell of %s has %d bytes, over the limit of %d", what, len(script), longestScript)
	}
	return script
}

func sortedKeys[V any](m map[string]V) []string {
	return slices.Sorted(maps.Keys(m))
}

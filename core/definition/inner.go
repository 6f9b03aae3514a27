package definition

import (
	"fmt"
	"slices"
	"strings"
)

// innerAt is where a task starts another workflow.
type innerAt struct {
	from   string // the workflow that the task is in; known when it has been read
	task   string
	inner  *Inner
	at     *node
	params map[string]*node
}

// inner reads the workflow that a task starts: its name, or a mapping.
func (r *reader) inner(n *node, task, what string) *Inner {
	inner := &Inner{Window: "same", Wait: true}
	place := innerAt{task: task, inner: inner, at: n, params: map[string]*node{}}
	what = "start of " + what
	if n.kind == scalar {
		inner.Workflow = r.name(n, "workflow", IsName)
		r.inners = append(r.inners, place)
		return inner
	}
	var workflow *node
	ok := r.keys(n, what, map[string]func(*node){
		"workflow": func(n *node) { workflow, place.at, inner.Workflow = n, n, r.name(n, "workflow", IsName) },
		"window":   func(n *node) { inner.Window = r.oneOf(n, "window of "+what, "same", "none") },
		"wait":     func(n *node) { inner.Wait = r.bool(n, "wait of "+what) },
		"params": func(n *node) {
			r.each(n, "params of "+what, func(key, value *node) {
				place.params[key.text] = key
				if inner.Params == nil {
					inner.Params = map[string]string{}
				}
				inner.Params[key.text] = r.innerParam(value, key.text, task, what)
			})
		},
	})
	switch {
	case ok && workflow == nil:
		r.problem(n, "add workflow: NAME", "%s names no workflow", what)
	case ok:
		r.inners = append(r.inners, place)
	}
	return inner
}

// innerParam reads a value: a text with expressions, or a list or an object
// without.
func (r *reader) innerParam(n *node, name, task, what string) string {
	if n.kind == scalar {
		text := r.text(n, fmt.Sprintf("the param %s of %s", name, what))
		r.expects(task, template, n, text)
		return text
	}
	text := show(n.any())
	if notPlain(text) {
		r.problem(n, `write the whole value as one expression, as in "${[params.basin]}"`, "the param %s of %s holds ${ in a list or an object", name, what)
	}
	return strings.ReplaceAll(text, "${", "$${")
}

// result reads what a run leaves for the workflow that started it.
func (r *reader) result(n *node) map[string]string {
	result := map[string]string{}
	r.each(n, "result", func(key, value *node) {
		result[key.text] = r.text(value, "the result "+key.text)
		r.expects(wholeRun, template, value, result[key.text])
	})
	return result
}

// checkInners finds, among the workflows of a project, what starts another one
// wrongly. A workflow that is not of the project may be known to the service.
func (r *reader) checkInners(workflows []*Workflow) {
	known := make(map[string]*Workflow, len(workflows))
	for _, w := range workflows {
		known[w.Name] = w
	}
	lookup := func(name string) *Workflow { return known[name] }
	for _, x := range r.inners {
		to := known[x.inner.Workflow]
		if to == nil || known[x.from] == nil {
			continue
		}
		if circle := InnerCircle(known[x.from], lookup); circle != nil && circle[1] == to.Name {
			r.problem(x.at, "take out one of these starts", "workflows start each other in a circle: %s", strings.Join(circle, " starts "))
		}
		for _, m := range x.inner.mistakes(to) {
			at := x.at
			if x.params[m.param] != nil {
				at = x.params[m.param]
			}
			r.problem(at, m.fix, "task %q starts %s, %s", x.task, to.Name, m.message)
		}
	}
}

// InnerMistake tells what is wrong with how a workflow starts others, nil if
// nothing is. lookup is the workflow of a name, nil if there is none.
func InnerMistake(w *Workflow, lookup func(string) *Workflow) error {
	for _, t := range w.Tasks {
		if t.Start == nil {
			continue
		}
		to := lookup(t.Start.Workflow)
		if to == nil {
			return fmt.Errorf("task %s of %s starts the workflow %q, which does not exist; apply that one first, or together with it", t.Name, w.Name, t.Start.Workflow)
		}
		for _, m := range t.Start.mistakes(to) {
			return fmt.Errorf("task %s of %s starts %s, %s; %s", t.Name, w.Name, to.Name, m.message, m.fix)
		}
	}
	if circle := InnerCircle(w, lookup); circle != nil {
		return fmt.Errorf("workflows would start each other in a circle: %s; take out one of these starts", strings.Join(circle, " starts "))
	}
	return nil
}

type innerMistake struct{ param, message, fix string }

// mistakes are those in the params that the other workflow is given.
func (i *Inner) mistakes(to *Workflow) (found []innerMistake) {
	var names []string
	for _, p := range to.Params {
		names = append(names, p.Name)
		text, given := i.Params[p.Name]
		if p.Required && !given {
			found = append(found, innerMistake{p.Name, fmt.Sprintf("which requires the param %q", p.Name), fmt.Sprintf("add params: {%s: VALUE}", p.Name)})
		}
		if given && !notPlain(text) {
			if _, err := p.Parse(text); err != nil {
				found = append(found, innerMistake{p.Name, fmt.Sprintf("whose param %q cannot be that: %v", p.Name, err), "give another value"})
			}
		}
	}
	for _, name := range sortedKeys(i.Params) {
		if slices.Contains(names, name) {
			continue
		}
		fix := "it has none"
		if len(names) > 0 {
			fix = "its params are: " + listed(names)
		}
		if near := Nearest(name, names); near != "" {
			fix = fmt.Sprintf("did you mean %q?", near)
		}
		found = append(found, innerMistake{name, fmt.Sprintf("which has no param %q", name), fix})
	}
	return found
}

// InnerCircle are the names of workflows that start each other and come back to
// the first, nil if there is no such circle.
func InnerCircle(w *Workflow, lookup func(string) *Workflow) []string {
	seen := map[string]bool{}
	var walk func(at *Workflow, way []string) []string
	walk = func(at *Workflow, way []string) []string {
		way = append(way, at.Name)
		for _, t := range at.Tasks {
			if t.Start == nil {
				continue
			}
			if t.Start.Workflow == w.Name {
				return append(way, w.Name)
			}
			if next := lookup(t.Start.Workflow); next != nil && !seen[next.Name] {
				seen[next.Name] = true
				if circle := walk(next, slices.Clone(way)); circle != nil {
					return circle
				}
			}
		}
		return nil
	}
	return walk(w, nil)
}

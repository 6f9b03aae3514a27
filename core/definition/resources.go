package definition

import (
	"fmt"
	"slices"
	"strings"
)

// withinAt is where something says that it is within a resource.
type withinAt struct {
	name, what string
	at         *node
}

// within reads the name of a resource, or a list of them.
func (r *reader) within(n *node, what string) (names []string) {
	items := []*node{n}
	if n.kind == sequence {
		items = n.items
	}
	for _, item := range items {
		name := r.text(item, "within of "+what)
		if item.kind != scalar {
			continue
		}
		if slices.Contains(names, name) {
			r.problem(item, "take one out", "%s names the resource %q twice in within", what, name)
			continue
		}
		names = append(names, name)
		r.withins = append(r.withins, withinAt{name, what, item})
	}
	return names
}

// resources reads what is opened before tasks and closed after them.
func (r *reader) resources(n *node, w *Workflow, inherited Settings) {
	r.each(n, "resources", func(key, value *node) {
		res := Resource{Name: r.name(key, "resource", IsName)}
		what := fmt.Sprintf("resource %q", res.Name)
		var open, close *node
		if !r.keys(value, what, map[string]func(*node){
			"about":              func(n *node) { res.About = r.text(n, "about of "+what) },
			"within":             func(n *node) { res.Within = r.within(n, what) },
			"open":               func(n *node) { open = n },
			"close":              func(n *node) { close = n },
			"close_must_succeed": func(n *node) { res.CloseMustSucceed = r.bool(n, "close_must_succeed of "+what) },
		}) {
			return
		}
		for word, at := range map[string]*node{"open": open, "close": close} {
			if at == nil {
				r.problem(key, fmt.Sprintf("add %s: {exec: [PROGRAM]}", word), "%s has no %s", what, word)
			}
		}
		res.Open = r.action(open, res.OpenName(), "open of "+what, inherited)
		res.Close = r.action(close, res.CloseName(), "close of "+what, inherited)
		res.Open.Within, res.Close.Within, res.Close.MayFail = res.Within, res.Within, !res.CloseMustSucceed
		w.Resources = append(w.Resources, res)
		r.withins = append(r.withins, withinAt{what: what, at: key}) // where the resource itself stands
	})
}

// action reads what opens or closes a resource.
func (r *reader) action(n *node, name, what string, s Settings) Task {
	task := Task{Name: name, Join: Join{Kind: "all"}, Repeatable: true}
	if n == nil {
		return task
	}
	d := doing{task: &task, settings: &s, what: what}
	if r.keys(n, what, r.doing(&d)) {
		r.oneKind(n, d, "exec, shell")
	}
	task.Env, task.Timeout, task.Retry, task.Queue = s.Env, s.Timeout, s.Retry, s.Queue
	return task
}

// resourcesOf are the resources that are open while a node is made: those that
// it is within, and those that these are within; of what opens or closes a
// resource, that one too when it closes it.
func (w *Workflow) resourcesOf(node string) (names []string) {
	var add func(within []string)
	add = func(within []string) {
		for _, name := range within {
			if slices.Contains(names, name) {
				continue
			}
			names = append(names, name)
			for _, res := range w.Resources {
				if res.Name == name {
					add(res.Within)
				}
			}
		}
	}
	for _, n := range w.Nodes() {
		if n.Name == node {
			add(n.Within)
		}
	}
	if name, isClose := strings.CutSuffix(node, ":close"); isClose {
		add([]string{name})
	}
	return names
}

// checkResources finds resources that are not there, that nothing uses, or that
// are within each other.
func (r *reader) checkResources(w *Workflow) {
	withins := r.withins
	r.withins = nil
	names := make([]string, len(w.Resources))
	for i, res := range w.Resources {
		names[i] = res.Name
	}
	for _, x := range withins {
		if x.name == "" || slices.Contains(names, x.name) {
			continue
		}
		fix := "the resources are: " + listed(names)
		if near := Nearest(x.name, names); near != "" {
			fix = fmt.Sprintf("did you mean %q?", near)
		} else if len(names) == 0 {
			fix = fmt.Sprintf("add resources: {%s: {open: {exec: [PROGRAM]}, close: {exec: [PROGRAM]}}}", x.name)
		}
		r.problem(x.at, fix, "%s is within the resource %q, which does not exist", x.what, x.name)
	}
	for _, res := range w.Resources {
		used := slices.ContainsFunc(w.Tasks, func(t Task) bool { return slices.Contains(t.Within, res.Name) }) ||
			slices.ContainsFunc(w.Resources, func(other Resource) bool { return slices.Contains(other.Within, res.Name) })
		what := fmt.Sprintf("resource %q", res.Name)
		at := withins[slices.IndexFunc(withins, func(x withinAt) bool { return x.name == "" && x.what == what })].at
		if !used {
			r.problem(at, fmt.Sprintf("add within: %s to the tasks that need it, or take it out", res.Name), "no task is within the %s", what)
		}
		if way := w.wayWithin(res.Name, res.Name, nil); way != nil {
			r.problem(at, "take out one of these", "resources are within each other in a circle: %s", strings.Join(way, " within "))
			return
		}
	}
}

// wayWithin is a way from one resource through those that it is within to
// another, nil if there is none.
func (w *Workflow) wayWithin(from, to string, before []string) []string {
	if slices.Contains(before, from) {
		return nil
	}
	before = append(before, from)
	for _, res := range w.Resources {
		if res.Name != from {
			continue
		}
		for _, name := range res.Within {
			if name == to {
				return append(before, to)
			}
			if way := w.wayWithin(name, to, before); way != nil {
				return way
			}
		}
	}
	return nil
}

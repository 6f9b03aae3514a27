package definition

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"wiselantern/core/match"
)

// Outside is a start that hangs on something other than time. Its Kind is event,
// file, dataset or workflow.
type Outside struct {
	Awaited                   // with Of the data sets; what needs a run has no place here
	Join    string            `json:"join,omitempty"`    // of several data sets: all, any
	Params  map[string]string `json:"params,omitempty"`  // as on a command line, with ${expressions} on event and events
	Quiet   Length            `json:"quiet,omitempty"`   // the run is made when for so long nothing further has come
	Collect Length            `json:"collect,omitempty"` // what comes within so long of the first makes one run
}

var outsideKinds = []string{AwaitEvent, AwaitFile, AwaitDataset, AwaitWorkflow}

// Key is what the start is known by from version to version: what it is for.
func (o Outside) Key() string {
	key := o.Kind + " " + strings.Join(o.Of, " ")
	for _, part := range []struct{ name, value string }{{"join", o.Join}, {"source", o.Source}, {"subject", o.Subject}, {"where", o.Where}} {
		if part.value != "" {
			key += " " + part.name + " " + part.value
		}
	}
	return key
}

// String is the start in a few words.
func (o Outside) String() string {
	of := strings.Join(o.Of, ", ")
	text := ""
	switch o.Kind {
	case AwaitEvent:
		text = "event " + of
		if o.Subject != "" {
			text += " of " + o.Subject
		}
		if o.Source != "" {
			text += " from " + o.Source
		}
	case AwaitFile:
		text = "file " + of
	case AwaitDataset:
		text = "data set " + of
		if len(o.Of) > 1 {
			text = o.Join + " of the data sets " + of
		}
	case AwaitWorkflow:
		text = "after " + of
		if !slices.Equal(o.Expect, []string{"succeeded"}) {
			text += " (" + strings.Join(o.Expect, " or ") + ")"
		}
	}
	if o.Where != "" {
		text += ", where " + o.Where
	}
	if o.Collect > 0 {
		text += ", collected over " + o.Collect.String()
	}
	if o.Quiet > 0 {
		text += ", when nothing came for " + o.Quiet.String()
	}
	return text
}

// outsideKey is the first key of a start that says it hangs on something other than
// time.
func outsideKey(n *node) (kind string, more *node) {
	for _, p := range n.pairs {
		if slices.Contains(outsideKinds, p.key.text) {
			if kind != "" {
				return kind, p.key
			}
			kind = p.key.text
		}
	}
	return kind, nil
}

func (r *reader) outside(n *node, kind, what string) (o Outside, ok bool) {
	o.Kind = kind
	keys := map[string]func(*node){
		"collect": func(n *node) { o.Collect = r.length(n, "collect of "+what) },
		"where": func(n *node) {
			o.Where = r.text(n, "where of "+what)
			r.expects(aStart, condition, n, o.Where)
		},
		"params": func(n *node) {
			o.Params = map[string]string{}
			r.each(n, "params of "+what, func(key, value *node) {
				o.Params[key.text] = r.innerParam(value, key.text, aStart, what)
				r.outsideParams = append(r.outsideParams, key)
			})
		},
	}
	quiet := func(n *node) { o.Quiet = r.length(n, "settle of "+what) }
	switch kind {
	case AwaitEvent:
		pattern := func(n *node, key string) string {
			text := r.plainText(n, key+" of "+what)
			if err := match.ParsePattern(text); err != nil {
				r.explain(n, key+" of "+what, err)
			}
			return text
		}
		keys["event"] = func(n *node) { o.Of = []string{r.eventType(n, what)} }
		keys["source"] = func(n *node) { o.Source = pattern(n, "source") }
		keys["subject"] = func(n *node) { o.Subject = pattern(n, "subject") }
		keys["settle"] = quiet
	case AwaitFile:
		o.Settle, o.Check = standardSettle, standardFileCheck
		for key, read := range r.fileKeys(&o.Awaited, what, func(n *node) string { return r.plainText(n, "file of "+what) }) {
			keys[key] = read
		}
	case AwaitDataset:
		keys["dataset"] = func(n *node) { o.Join, o.Of = r.datasets(n, what) }
		keys["settle"] = quiet
	case AwaitWorkflow:
		o.Expect = []string{"succeeded"}
		keys["workflow"] = func(n *node) {
			o.Of = []string{r.name(n, "workflow", IsName)}
			r.links = append(r.links, linkAt{start: what, awaited: &o.Awaited, at: n})
		}
		keys["expect"] = func(n *node) { o.Expect = r.outcomes(n, what) }
		keys["settle"] = quiet
	}
	ok = r.keys(n, what, keys)
	if o.Collect > Length(7*24*time.Hour) {
		r.problem(n, "write a week at most", "%s collects over %s", what, o.Collect)
	}
	if ok && o.Kind == AwaitWorkflow && slices.ContainsFunc(o.Expect, func(s string) bool { return s == "skipped" || s == "unreached" }) && !slices.Contains(o.Expect, "succeeded") {
		r.problem(n, "write succeeded, failed, stopped or settled", "%s expects a run to be %s, which no run ever is", what, strings.Join(o.Expect, "|"))
	}
	return o, ok
}

// plainText reads a text without expressions.
func (r *reader) plainText(n *node, what string) string {
	text := r.text(n, what)
	if notPlain(text) {
		r.problem(n, "write it without ${…}; what a run is given goes into params", "%s holds ${, and no run is there yet", what)
	}
	return text
}

// datasets reads the data sets of a start: one, a list (any of them), or all or any
// of a list.
func (r *reader) datasets(n *node, what string) (join string, names []string) {
	join = "any"
	list := n
	if n.kind == mapping {
		list = nil
		r.keys(n, "dataset of "+what, map[string]func(*node){
			"all": func(n *node) { join, list = "all", n },
			"any": func(n *node) { list = n },
		})
		if list == nil {
			return join, nil
		}
	}
	items := []*node{list}
	if list.kind == sequence {
		items = list.items
	}
	for _, item := range items {
		names = append(names, r.name(item, "data set", taskPattern.MatchString))
	}
	if len(names) == 0 {
		r.problem(list, "name one, as in readings/raw", "dataset of %s names no data set", what)
	}
	return join, names
}

// checkOutsideParams finds params that a start gives and the workflow does not have.
func (r *reader) checkOutsideParams(w *Workflow) {
	var names []string
	for _, p := range w.Params {
		names = append(names, p.Name)
	}
	for _, key := range r.outsideParams {
		p, known := w.Param(key.text)
		if known && p.Secret {
			r.problem(key, "take it out; what events bring can be read by all", "param %q is secret", p.Name)
		}
		if known {
			continue
		}
		fix := "the params are: " + listed(names)
		if near := Nearest(key.text, names); near != "" {
			fix = fmt.Sprintf("did you mean %q?", near)
		}
		r.problem(key, fix, "there is no param %q", key.text)
	}
	r.outsideParams = nil
}

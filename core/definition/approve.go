package definition

import (
	"fmt"
	"slices"
	"strings"
)

// Approval is a question to a person.
type Approval struct {
	Ask  string            `json:"ask"`            // with ${expressions}
	From []string          `json:"from,omitempty"` // the persons who may answer; nil is everybody
	Show map[string]string `json:"show,omitempty"` // what is shown beside it, with ${expressions}
	No   string            `json:"no"`             // what a no makes of the task: skip, fail
}

// What becomes of a wait or a question when its time is over. The words yes and no
// answer a question.
var onTimeoutWords = []string{"fail", "skip"}

// approve reads a question.
func (r *reader) approve(n *node, task, what string) *Approval {
	a := &Approval{No: "skip"}
	what = "approve of " + what
	ask := func(n *node) {
		if a.Ask = r.text(n, "ask of "+what); n.kind == scalar && strings.TrimSpace(a.Ask) == "" {
			r.problem(n, "write the question", "%s asks nothing", what)
		}
		r.expects(task, template, n, a.Ask)
	}
	if n.kind == scalar {
		ask(n)
		return a
	}
	asked := false
	if r.keys(n, what, map[string]func(*node){
		"ask":  func(n *node) { asked = true; ask(n) },
		"from": func(n *node) { a.From = r.textOrTexts(n, "from of "+what) },
		"no":   func(n *node) { a.No = r.oneOf(n, "no of "+what, "skip", "fail") },
		"show": func(n *node) {
			a.Show = map[string]string{}
			r.each(n, "show of "+what, func(key, value *node) {
				a.Show[key.text] = r.text(value, "show of "+what)
				r.expects(task, template, value, a.Show[key.text])
			})
		},
	}) && !asked {
		r.problem(n, "add ask: QUESTION", "%s asks nothing", what)
	}
	return a
}

// Dataset is a data set that a task updates.
type Dataset struct {
	Name        string `json:"name"`
	About       string `json:"about,omitempty"`
	FreshWithin Length `json:"fresh_within,omitempty"` // it is late when its newest update is older; 0 is never
}

// updates reads the data sets that a task updates: names, or names with what is to
// be known of each.
func (r *reader) updates(n *node, what string) (list []Dataset) {
	what = "updates of " + what
	add := func(key *node) *Dataset {
		list = append(list, Dataset{Name: r.name(key, "data set", taskPattern.MatchString)})
		return &list[len(list)-1]
	}
	switch n.kind {
	case scalar:
		add(n)
	case sequence:
		for _, item := range n.items {
			add(item)
		}
	default:
		r.each(n, what, func(key, value *node) {
			d := add(key)
			if value.kind == nothing {
				return
			}
			r.keys(value, fmt.Sprintf("data set %q", key.text), map[string]func(*node){
				"about":        func(n *node) { d.About = r.text(n, "about of data set "+key.text) },
				"fresh_within": func(n *node) { d.FreshWithin = r.length(n, "fresh_within of data set "+key.text) },
			})
		})
	}
	for i, d := range list {
		if slices.ContainsFunc(list[:i], func(other Dataset) bool { return other.Name == d.Name }) {
			r.problem(n, "name it once", "%s names %q twice", what, d.Name)
		}
	}
	return list
}

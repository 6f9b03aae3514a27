package definition

import "fmt"

// Watermark is a small value that a workflow keeps from run to run.
type Watermark struct {
	Name    string `json:"name"`
	About   string `json:"about,omitempty"`
	Type    string `json:"type"` // of a param, but for choice
	Of      string `json:"of,omitempty"`
	Initial any    `json:"initial"`       // before any run has set it
	Set     string `json:"set,omitempty"` // what it becomes when a run has succeeded, with ${expressions}; null leaves it
}

// Param is the watermark as a param, to check and to write its values.
func (w Watermark) Param() Param { return Param{Name: w.Name, Type: w.Type, Of: w.Of} }

func (r *reader) watermarks(n *node) (list []Watermark) {
	r.each(n, "watermarks", func(key, value *node) {
		if !paramPattern.MatchString(key.text) || len(key.text) > longestName {
			r.problem(key, "write small letters, digits and _, beginning with a letter", "%q cannot be the name of a watermark", key.text)
		}
		w := Watermark{Name: key.text}
		what := fmt.Sprintf("watermark %q", w.Name)
		var kind, of, initial *node
		if !r.keys(value, what, map[string]func(*node){
			"about":   func(n *node) { w.About = r.text(n, "about of "+what) },
			"type":    func(n *node) { kind = n },
			"of":      func(n *node) { of = n },
			"initial": func(n *node) { initial = n },
			"set": func(n *node) {
				w.Set = r.text(n, "set of "+what)
				r.expects(wholeRun, template, n, w.Set)
			},
		}) {
			return
		}
		types := []string{"text", "number", "whole", "bool", "date", "moment", "length", "list", "object"}
		if kind == nil {
			r.problem(value, "write type: one of "+listed(types), "%s has no type", what)
			return
		}
		w.Type = r.oneOf(kind, "type of "+what, types...)
		if w.Type == "list" {
			w.Of = "text"
			if of != nil {
				w.Of = r.oneOf(of, "of of "+what, types[:7]...)
			}
		} else if of != nil {
			r.problem(of, "leave it out", "%s is of the type %s, which has no \"of\"", what, w.Type)
		}
		if initial != nil && initial.kind != nothing {
			checked, err := w.Param().fromNode(initial)
			if err != nil {
				r.problem(initial, "", "initial of %s: %v", what, err)
			}
			w.Initial = checked
		}
		list = append(list, w)
	})
	return list
}

package definition

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"
)

// reader takes typed values out of the tree of one file and gathers what is
// wrong on the way, so that one reading finds every mistake.
type reader struct {
	document
	problems      Problems
	tables        map[string]string // the texts of files that workflows take tasks from
	expected      []expected        // expressions of the workflow that is being read
	startParams   []startParam      // that starts of the workflow that is being read give
	inners        []innerAt         // the workflows that tasks start
	links         []linkAt          // the workflows that waits and starts name
	outsideParams []*node           // that starts by something outside give
	withins       []withinAt        // what names a resource, in the workflow that is being read
}

// document is a file with its lines.
type document struct {
	file  string
	lines []string
}

func newReader(file, text string) *reader {
	return &reader{document: document{file, strings.Split(text, "\n")}}
}

// documents parses text, or records why it cannot be parsed.
func (r *reader) documents(text string) []*node {
	switch {
	case len(text) > maxFileSize:
		r.whole(fmt.Sprintf("the file has %d bytes, over the limit of %d", len(text), maxFileSize), "split it into several workflows")
		return nil
	case !utf8.ValidString(text):
		line := 1 + strings.Count(text[:firstInvalid(text)], "\n")
		r.problems = append(r.problems, Problem{File: r.file, Line: line, Column: 1, Message: "the file is not UTF-8", Fix: "save it as UTF-8"})
		return nil
	}
	docs, err := parseTree(text)
	if err != nil {
		line, column, message := syntaxPlace(err)
		fix := ""
		switch {
		case strings.Contains(message, "'\t'"):
			fix = "indent with spaces"
		case strings.Contains(message, "mapping value is not allowed"):
			fix = "put a text with a colon in it into quotes, or write it as a block behind |"
		}
		r.at(line, column, "this is not YAML: "+message, fix)
		return nil
	}
	return docs
}

func firstInvalid(text string) int {
	for i, c := range text {
		if c == utf8.RuneError {
			if _, size := utf8.DecodeRuneInString(text[i:]); size == 1 {
				return i
			}
		}
	}
	return len(text)
}

func (r *reader) whole(message, fix string) {
	r.problems = append(r.problems, Problem{File: r.file, Message: message, Fix: fix})
}

func (r *reader) at(line, column int, message, fix string) {
	r.in(&r.document, line, column, message, fix)
}

func (r *reader) in(d *document, line, column int, message, fix string) {
	p := Problem{File: d.file, Line: line, Column: column, Message: message, Fix: fix}
	if line > 0 && line <= len(d.lines) {
		p.Text = strings.TrimRight(d.lines[line-1], "\r ")
		if len(p.Text) > 160 {
			p.Text = strings.ToValidUTF8(p.Text[:160], "") + "…"
		}
	}
	r.problems = append(r.problems, p)
}

func (r *reader) problem(n *node, fix, format string, args ...any) {
	r.in(r.of(n), n.line, n.column, fmt.Sprintf(format, args...), fix)
}

// of is the file that a node stands in.
func (r *reader) of(n *node) *document {
	if n.from != nil {
		return n.from
	}
	return &r.document
}

// keys goes through a mapping. Each known key is handed to its function; an
// unknown or doubled key is a problem. It is false if n is no mapping.
func (r *reader) keys(n *node, what string, known map[string]func(*node)) bool {
	if n.kind != mapping {
		r.problem(n, "write it as keys and values", "%s is %s", what, n.kind)
		return false
	}
	names := sortedKeys(known)
	seen := map[string]int{}
	for _, p := range n.pairs {
		key := p.key.text
		if line, ok := seen[key]; ok {
			r.problem(p.key, "keep one of the two", "the key %q stands in %s twice; first on line %d", key, what, line)
			continue
		}
		seen[key] = p.key.line
		if read, ok := known[key]; ok {
			read(p.value)
			continue
		}
		if p.key.from != nil && r.wrongAt(p.key) {
			continue // a column of a table is wrong once, not in every row
		}
		fix := "known here: " + strings.Join(names, ", ")
		if near := Nearest(key, names); near != "" {
			fix = fmt.Sprintf("did you mean %q?", near)
		}
		r.problem(p.key, fix, "%s has no key %q", what, key)
	}
	return true
}

// each goes through a mapping from names that the file chooses.
func (r *reader) each(n *node, what string, read func(key, value *node)) {
	if n.kind != mapping {
		r.problem(n, "write it as names and values", "%s is %s", what, n.kind)
		return
	}
	seen := map[string]int{}
	for _, p := range n.pairs {
		if line, ok := seen[p.key.text]; ok {
			r.problem(p.key, "give one of them another name", "%q stands in %s twice; first on line %d", p.key.text, what, line)
			continue
		}
		seen[p.key.text] = p.key.line
		read(p.key, p.value)
	}
}

func (r *reader) text(n *node, what string) string {
	if n.kind != scalar {
		r.problem(n, "write one value", "%s is %s", what, n.kind)
		return ""
	}
	if i := strings.IndexByte(n.text, 0); i >= 0 {
		r.problem(n, "take it out", "%s holds a NUL byte, which no program can be given", what)
	}
	return n.text
}

func (r *reader) texts(n *node, what string) []string {
	if n.kind != sequence {
		r.problem(n, "write a list, as in [one, two]", "%s is %s", what, n.kind)
		return nil
	}
	var out []string
	for i, item := range n.items {
		out = append(out, r.text(item, fmt.Sprintf("item %d of %s", i+1, what)))
	}
	return out
}

func (r *reader) length(n *node, what string) Length {
	l, err := ParseLength(r.text(n, what))
	if err != nil && n.kind == scalar {
		r.explain(n, what, err)
	}
	return l
}

// explain records an error whose text has the form "what is wrong; what to do".
func (r *reader) explain(n *node, what string, err error) {
	message, fix, _ := strings.Cut(err.Error(), "; ")
	r.problem(n, fix, "%s: %s", what, message)
}

func (r *reader) whole64(n *node, what string, low, high int64) int64 {
	v, err := strconv.ParseInt(r.text(n, what), 10, 64)
	if n.kind == scalar && (err != nil || v < low || v > high) {
		r.problem(n, fmt.Sprintf("write a whole number from %d to %d", low, high), "%s is %q", what, n.text)
	}
	return v
}

// number reads a number, or with percent a share as in 20%.
func (r *reader) number(n *node, what string, low, high float64, percent bool) float64 {
	text := r.text(n, what)
	scale := 1.0
	if share, ok := strings.CutSuffix(text, "%"); ok && percent {
		text, scale = share, 100
	}
	v, err := strconv.ParseFloat(text, 64)
	v /= scale
	if n.kind == scalar && (err != nil || v < low || v > high) {
		fix := fmt.Sprintf("write a number from %g to %g", low, high)
		if percent {
			fix = fmt.Sprintf("write a share from %g%% to %g%%", low*100, high*100)
		}
		r.problem(n, fix, "%s is %q", what, n.text)
	}
	return v
}

func (r *reader) bool(n *node, what string) bool {
	switch n.text {
	case "true":
		return true
	case "false":
		return false
	}
	r.problem(n, "write true or false", "%s is %q", what, n.text)
	return false
}

// oneOf reads one of a few words.
func (r *reader) oneOf(n *node, what string, words ...string) string {
	got := r.text(n, what)
	for _, w := range words {
		if got == w {
			return got
		}
	}
	if n.kind == scalar {
		r.problem(n, "write one of: "+strings.Join(words, ", "), "%s is %q", what, got)
	}
	return words[0]
}

// any is the value as JSON would have it: text, float64, bool, nil, []any or
// map[string]any.
func (n *node) any() any {
	switch n.kind {
	case nothing:
		return nil
	case sequence:
		list := make([]any, len(n.items))
		for i, item := range n.items {
			list[i] = item.any()
		}
		return list
	case mapping:
		object := make(map[string]any, len(n.pairs))
		for _, p := range n.pairs {
			object[p.key.text] = p.value.any()
		}
		return object
	}
	if !n.quoted {
		switch n.text {
		case "true":
			return true
		case "false":
			return false
		}
		if f, err := strconv.ParseFloat(n.text, 64); err == nil {
			return f
		}
	}
	return n.text
}

package definition

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"wiselantern/core/match"
)

// Wait is what a task parks for: one thing outside, or several.
type Wait struct {
	Join string    `json:"join,omitempty"` // of several: all, any
	For  []Awaited `json:"for"`
}

// The kinds of what can be awaited.
const (
	AwaitEvent    = "event"
	AwaitFile     = "file"
	AwaitDataset  = "dataset"
	AwaitWorkflow = "workflow"
	AwaitUntil    = "until"
	AwaitHTTP     = "http"
	AwaitQuery    = "query"
)

var awaitKinds = []string{AwaitEvent, AwaitFile, AwaitDataset, AwaitWorkflow, AwaitUntil, AwaitHTTP, AwaitQuery}

// Awaited is one thing outside. Its texts may hold ${expressions}, but for Where,
// Holds, a query and the names of data sets, workflows and tasks.
type Awaited struct {
	Name string   `json:"name,omitempty"` // among several: what its result stands under
	Kind string   `json:"kind"`
	Of   []string `json:"of"` // the type of the event; the globs; the data set; the workflow; the moment; the address; the query

	Source  string `json:"source,omitempty"` // of an event, as a pattern
	Subject string `json:"subject,omitempty"`
	Where   string `json:"where,omitempty"` // a condition on event

	Settle  Length `json:"settle,omitempty"` // a file is there when its size has rested for so long
	Count   int    `json:"count,omitempty"`  // so many files at least
	MinSize int64  `json:"min_size,omitempty"`

	Window string   `json:"window,omitempty"` // same, covering, newest
	Task   string   `json:"task,omitempty"`   // of the workflow, or a group; "" is the whole run
	Expect []string `json:"expect,omitempty"`

	Method     string            `json:"method,omitempty"`
	Headers    map[string]string `json:"headers,omitempty"`
	Body       string            `json:"body,omitempty"`
	Status     []ExitCodes       `json:"status,omitempty"` // without an outcome
	With       []string          `json:"with,omitempty"`   // the values of a query's places
	Connection string            `json:"connection,omitempty"`
	Holds      string            `json:"holds,omitempty"` // a condition on answer, or on rows

	Check  Length  `json:"check,omitempty"`  // how long until it is looked again
	Growth float64 `json:"growth,omitempty"` // each pause is the one before times this
	Cap    Length  `json:"cap,omitempty"`    // the longest pause
}

// Words says what is awaited, as in "the event storm.warning".
func (a Awaited) Words() string {
	of := strings.Join(a.Of, ", ")
	switch a.Kind {
	case AwaitEvent:
		text := "the event " + of
		if a.Subject != "" {
			text += " of " + a.Subject
		}
		return text
	case AwaitFile:
		if a.Count > 1 {
			return fmt.Sprintf("%d files %s", a.Count, of)
		}
		return "the file " + of
	case AwaitDataset:
		return "the data set " + of
	case AwaitWorkflow:
		what := "the run of " + of
		if a.Task != "" {
			what = a.Task + " of " + of
		}
		switch a.Window {
		case "same":
			return what + " for the same window"
		case "covering":
			return what + " for each window in this one"
		}
		return what
	case AwaitQuery:
		return "a query of " + a.Connection
	}
	return of
}

// Words says what a wait is for.
func (w Wait) Words() string {
	var parts []string
	for _, a := range w.For {
		parts = append(parts, a.Words())
	}
	if w.Join == "any" {
		return strings.Join(parts, " or ")
	}
	return strings.Join(parts, " and ")
}

// Parked tells whether the task is made by nobody, but waits for something outside.
func (t Task) Parked() bool { return t.Wait != nil || t.Approve != nil }

// wait reads what a task waits for.
func (r *reader) wait(n *node, task, what string) *Wait {
	what = "wait of " + what
	if n.kind != mapping {
		r.problem(n, `write what it waits for, as in {file: "inbox/*.csv"} or {event: storm.warning}`, "%s is %s", what, n.kind)
		return &Wait{}
	}
	for _, p := range n.pairs {
		if p.key.text != "all" && p.key.text != "any" {
			continue
		}
		if len(n.pairs) > 1 {
			r.problem(n.pairs[1].key, "put each thing under a name of its own, as in all: {scan: {file: …}, permit: {event: …}}", "%s has %s beside another key", what, p.key.text)
			return &Wait{}
		}
		w := &Wait{Join: p.key.text}
		r.each(p.value, p.key.text+" of "+what, func(key, value *node) {
			name := key.text
			if !paramPattern.MatchString(name) {
				r.problem(key, "write small letters, digits and _, beginning with a letter", "%q cannot be the name of what is awaited", name)
			}
			one := r.awaited(value, task, fmt.Sprintf("%s of %s", name, what))
			one.Name = name
			w.For = append(w.For, one)
		})
		if p.value.kind == mapping && len(w.For) < 2 {
			r.problem(p.key, "name two things at least, or write the one without "+w.Join, "%s of %s has fewer than two things", w.Join, what)
		}
		return w
	}
	return &Wait{For: []Awaited{r.awaited(n, task, what)}}
}

func (r *reader) awaited(n *node, task, what string) Awaited {
	a := Awaited{}
	if n.kind != mapping {
		r.problem(n, "write it as keys and values", "%s is %s", what, n.kind)
		return a
	}
	var found []*node
	for _, p := range n.pairs {
		if slices.Contains(awaitKinds, p.key.text) {
			a.Kind = p.key.text
			found = append(found, p.key)
		}
	}
	switch {
	case found == nil:
		var names []string
		for _, p := range n.pairs {
			names = append(names, p.key.text)
		}
		fix := "give it one of: all, any, " + strings.Join(awaitKinds, ", ")
		for _, name := range names {
			if near := Nearest(name, append([]string{"all", "any"}, awaitKinds...)); near != "" && near != name {
				fix = fmt.Sprintf("did you mean %q?", near)
			}
		}
		r.problem(n, fix, "%s says nothing of what it waits for", what)
		return a
	case len(found) > 1:
		r.problem(found[1], "put each under a name of its own, as in all: {scan: {file: …}, permit: {event: …}}", "%s waits for two things at once", what)
		return a
	}
	kind, keys := awaitReader{r, &a, n, task, what}, map[string]func(*node){}
	switch a.Kind {
	case AwaitEvent:
		keys = kind.event()
	case AwaitFile:
		keys = kind.file()
	case AwaitDataset:
		keys = kind.dataset()
	case AwaitWorkflow:
		keys = kind.workflow()
	case AwaitUntil:
		keys = map[string]func(*node){"until": func(n *node) {
			a.Of = []string{kind.template(n, "until")}
			if notPlain(a.Of[0]) {
				return
			}
			if _, err := time.Parse(time.RFC3339, a.Of[0]); err != nil && n.kind == scalar {
				r.problem(n, `write a moment, as in 2026-03-28T06:00:00+01:00, or an expression, as in "${window.end + duration('2h')}"`, "until of %s is %q", what, a.Of[0])
			}
		}}
	case AwaitHTTP:
		keys = kind.http()
	case AwaitQuery:
		keys = kind.query()
	}
	if r.keys(n, what, keys) && a.Kind == AwaitQuery && a.Connection == "" {
		r.problem(n, "add connection: NAME, and say what it is: lantern connection set NAME ADDRESS", "%s names no connection", what)
	}
	return a
}

// awaitReader reads one thing that is awaited.
type awaitReader struct {
	*reader
	a    *Awaited
	at   *node
	task string
	what string
}

func (r awaitReader) template(n *node, key string) string {
	text := r.text(n, key+" of "+r.what)
	r.expects(r.task, template, n, text)
	return text
}

func (r awaitReader) pattern(n *node, key string) string {
	text := r.template(n, key)
	if err := match.ParsePattern(text); err != nil && !notPlain(text) {
		r.explain(n, key+" of "+r.what, err)
	}
	return text
}

func (r awaitReader) event() map[string]func(*node) {
	return map[string]func(*node){
		"event":   func(n *node) { r.a.Of = []string{r.eventType(n, r.what)} },
		"source":  func(n *node) { r.a.Source = r.pattern(n, "source") },
		"subject": func(n *node) { r.a.Subject = r.pattern(n, "subject") },
		"where": func(n *node) {
			r.a.Where = r.text(n, "where of "+r.what)
			r.expects(r.task, matching, n, r.a.Where)
		},
	}
}

// eventType reads a type of events, as a pattern.
func (r *reader) eventType(n *node, what string) string {
	text := r.text(n, "event of "+what)
	if n.kind != scalar {
		return text
	}
	if err := match.ParsePattern(text); err != nil {
		r.explain(n, "event of "+what, err)
	}
	if text == "" || text == "*" {
		r.problem(n, "write a type, as in storm.warning, or the beginning of some, as in storm.*", "event of %s means every event", what)
	}
	return text
}

func (r awaitReader) file() map[string]func(*node) {
	keys := r.fileKeys(r.a, r.what, func(n *node) string { return r.template(n, "file") })
	keys["count"] = func(n *node) { r.a.Count = int(r.whole64(n, "count of "+r.what, 1, MostFiles)) }
	r.a.Count, r.a.Settle, r.a.Check = 1, standardSettle, standardFileCheck
	return keys
}

// What is taken if a file that is awaited does not say.
const (
	standardSettle    = Length(2 * time.Second)
	standardFileCheck = Length(time.Minute)
	// MostFiles bounds how many files a wait or a start may find at once.
	MostFiles = 10_000
)

// fileKeys are the keys that files have in waits and in starts.
func (r *reader) fileKeys(a *Awaited, what string, text func(*node) string) map[string]func(*node) {
	return map[string]func(*node){
		"file": func(n *node) {
			items := []*node{n}
			if n.kind == sequence {
				items = n.items
			}
			if len(items) == 0 {
				r.problem(n, `write a path, as in "inbox/*.csv"`, "file of %s names no file", what)
			}
			for _, item := range items {
				glob := text(item)
				if a.Of = append(a.Of, glob); item.kind == scalar && !notPlain(glob) && (glob == "" || !doublestar.ValidatePattern(glob)) {
					r.problem(item, `write a path with *, ?, [a-z], {one,two} or **, as in "inbox/*.csv"`, "file of %s: %q is not a pattern of paths", what, glob)
				}
			}
		},
		"settle":   func(n *node) { a.Settle = r.length(n, "settle of "+what) },
		"check":    func(n *node) { a.Check = r.check(n, what) },
		"min_size": func(n *node) { a.MinSize = r.size(n, "min_size of "+what) },
	}
}

// check reads how long it takes until something is looked at again.
func (r *reader) check(n *node, what string) Length {
	before := len(r.problems)
	l := r.length(n, "check of "+what)
	if len(r.problems) == before && l < Length(time.Second) {
		r.problem(n, "write 1s or more", "check of %s is %q", what, n.text)
	}
	return l
}

var sizeUnits = map[string]int64{"": 1, "B": 1, "kB": 1e3, "MB": 1e6, "GB": 1e9, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30}

// size reads a number of bytes, as in 10MB.
func (r *reader) size(n *node, what string) int64 {
	text := r.text(n, what)
	digits := strings.TrimRight(text, "BkMGiK")
	number, err := strconv.ParseFloat(digits, 64)
	unit, known := sizeUnits[text[len(digits):]]
	if n.kind == scalar && (err != nil || !known || number < 0 || number*float64(unit) > math.MaxInt64/2) {
		r.problem(n, "write bytes, as in 500, 10kB, 2MB or 1GiB", "%s is %q", what, text)
		return 0
	}
	return int64(number * float64(unit))
}

func (r awaitReader) dataset() map[string]func(*node) {
	r.a.Window = "same"
	return map[string]func(*node){
		"dataset": func(n *node) { r.a.Of = []string{r.name(n, "data set", taskPattern.MatchString)} },
		"window":  func(n *node) { r.a.Window = r.oneOf(n, "window of "+r.what, "same", "newest") },
	}
}

func (r awaitReader) workflow() map[string]func(*node) {
	r.a.Window, r.a.Expect = "same", []string{"succeeded"}
	return map[string]func(*node){
		"workflow": func(n *node) {
			r.a.Of = []string{r.name(n, "workflow", IsName)}
			r.links = append(r.links, linkAt{task: r.task, awaited: r.a, at: n})
		},
		"task": func(n *node) {
			r.a.Task = r.text(n, "task of "+r.what)
			group := strings.TrimSuffix(r.a.Task, "/*")
			if n.kind == scalar && !taskPattern.MatchString(group) {
				r.problem(n, "write the name of a task, or a group, as in quality/*", "%q cannot be the name of a task", r.a.Task)
			}
		},
		"window": func(n *node) { r.a.Window = r.oneOf(n, "window of "+r.what, "same", "covering", "newest") },
		"expect": func(n *node) { r.a.Expect = r.outcomes(n, r.what) },
	}
}

// polled are the keys of what is asked again and again.
func (r awaitReader) polled(keys map[string]func(*node)) map[string]func(*node) {
	r.a.Check, r.a.Growth, r.a.Cap = Length(30*time.Second), 1.5, Length(10*time.Minute)
	maps.Copy(keys, map[string]func(*node){
		"check":  func(n *node) { r.a.Check = r.check(n, r.what) },
		"growth": func(n *node) { r.a.Growth = r.number(n, "growth of "+r.what, 1, 100, false) },
		"cap":    func(n *node) { r.a.Cap = r.length(n, "cap of "+r.what) },
	})
	return keys
}

func (r awaitReader) holds(variable string) func(*node) {
	return func(n *node) {
		r.a.Holds = r.text(n, "holds of "+r.what)
		r.expectsWith(r.task, matching, n, r.a.Holds, variable)
	}
}

var httpMethods = []string{"GET", "HEAD", "POST", "PUT"}

func (r awaitReader) http() map[string]func(*node) {
	r.a.Method, r.a.Status = "GET", []ExitCodes{{From: 200, To: 299}}
	return r.polled(map[string]func(*node){
		"http": func(n *node) {
			address := r.template(n, "http")
			r.a.Of = []string{address}
			if n.kind == scalar && !notPlain(address) && !strings.HasPrefix(address, "http://") && !strings.HasPrefix(address, "https://") {
				r.problem(n, "write a whole address, as in http://127.0.0.1:8080/ready", "http of %s: %q is not an address", r.what, address)
			}
		},
		"method": func(n *node) { r.a.Method = r.oneOf(n, "method of "+r.what, httpMethods...) },
		"headers": func(n *node) {
			r.a.Headers = map[string]string{}
			r.each(n, "headers of "+r.what, func(key, value *node) { r.a.Headers[key.text] = r.template(value, "headers") })
		},
		"body":   func(n *node) { r.a.Body = r.template(n, "body") },
		"status": func(n *node) { r.a.Status = r.statuses(n) },
		"holds":  r.holds("answer"),
	})
}

// statuses reads a status, a range of them, or a list of these.
func (r awaitReader) statuses(n *node) (list []ExitCodes) {
	items := []*node{n}
	if n.kind == sequence {
		items = n.items
	}
	for _, item := range items {
		from, to, isRange := strings.Cut(r.text(item, "status of "+r.what), "..")
		if !isRange {
			to = from
		}
		low, err := strconv.Atoi(from)
		high, err2 := strconv.Atoi(to)
		if item.kind == scalar && (err != nil || err2 != nil || low < 100 || high > 599 || low > high) {
			r.problem(item, "write a status, as in 200, or a range, as in 200..299", "status of %s is %q", r.what, item.text)
			continue
		}
		list = append(list, ExitCodes{From: low, To: high})
	}
	return list
}

func (r awaitReader) query() map[string]func(*node) {
	return r.polled(map[string]func(*node){
		"query": func(n *node) {
			text := r.text(n, "query of "+r.what)
			r.a.Of = []string{text}
			switch {
			case n.kind != scalar:
			case strings.TrimSpace(text) == "":
				r.problem(n, "write a SELECT", "query of %s is empty", r.what)
			case notPlain(text):
				r.problem(n, `write $1 or ? for the value, and the value under with: ["${window.start}"]`, "query of %s holds ${, and values never become part of a query", r.what)
			}
		},
		"with": func(n *node) {
			if n.kind != sequence {
				r.problem(n, `write a list, as in ["${window.start}"]`, "with of %s is %s", r.what, n.kind)
				return
			}
			for _, item := range n.items {
				r.a.With = append(r.a.With, r.template(item, "with"))
			}
		},
		"connection": func(n *node) { r.a.Connection = r.name(n, "connection", IsName) },
		"holds":      r.holds("rows"),
	})
}

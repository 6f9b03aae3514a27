package expr

import (
	"strings"
	"time"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/interpreter"
)

// Facts are what an evaluation knows.
type Facts struct {
	Params     map[string]any // text and choice as string, number float64, whole int64, moment time.Time, length time.Duration
	Start, End time.Time      // of the window; both zero without one
	RunID      string
	RunNumber  int
	RunVersion int
	RunCause   string
	RunNewest  bool           // no later window was due when it was made
	Watermarks map[string]any // as Params
	Item       any            // for the items of a task made for each
	Event      map[string]any // what the run was started by, or what is being matched; nil if there is none
	Events     []any          // all of those that it was started by, oldest first
	Known      map[string]any // what is known besides, by its name
	Task       func(Task) Known
	New        func(dataset string) bool
}

// Known is what is known of a task or a resource.
type Known struct {
	State   string
	Result  map[string]any
	Results []any // of a task made for each item: the results, nil where there is none
}

// ResolveName is the variable of that name.
func (f *facts) ResolveName(name string) (any, bool) {
	if param, ok := strings.CutPrefix(name, "params."); ok {
		value, known := f.Params[param]
		if value == nil {
			value = types.NullValue
		}
		return value, known
	}
	if mark, ok := strings.CutPrefix(name, "watermarks."); ok {
		value, known := f.Watermarks[mark]
		if value == nil {
			value = types.NullValue
		}
		return value, known
	}
	switch name {
	case "window.start", "window.end":
		if f.End.IsZero() {
			return types.NewErr("the run has no window; start it with --window"), true
		}
		if name == "window.start" {
			return f.Start, true
		}
		return f.End, true
	case "run.id":
		return f.RunID, true
	case "run.number":
		return int64(f.RunNumber), true
	case "run.version":
		return int64(f.RunVersion), true
	case "run.cause":
		return f.RunCause, true
	case "run.newest":
		return f.RunNewest, true
	case "item":
		if f.Item == nil {
			return types.NullValue, true
		}
		return f.Item, true
	case "event":
		if f.Event == nil {
			return types.NewErr("the run was not started by an event"), true
		}
		return f.Event, true
	case "events":
		if f.Events == nil && f.Event != nil {
			return []any{f.Event}, true
		}
		return f.Events, true
	case newVariable:
		known := make(map[string]bool, len(f.news))
		for _, name := range f.news {
			known[name] = f.New(name)
		}
		return known, true
	case tasksVariable, resourcesVariable:
		known := make(map[string]any, len(f.tasks))
		for _, task := range f.tasks {
			if task.Resource != (name == resourcesVariable) {
				continue
			}
			k := f.Task(task)
			one := map[string]any{"state": k.State, "result": nil}
			switch {
			case task.Each:
				one = map[string]any{"state": k.State, "results": k.Results}
			case k.Result != nil:
				one["result"] = k.Result
			}
			known[task.Name] = one
		}
		return known, true
	}
	value, ok := f.Known[name]
	return value, ok
}

// Parent is there because CEL wants it.
func (f *facts) Parent() interpreter.Activation { return nil }

// facts are the Facts of one evaluation, with the tasks that it speaks of.
type facts struct {
	*Facts
	tasks []Task
	news  []string
}

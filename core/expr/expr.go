// Package expr is the language of conditions and of values in workflows: CEL,
// the Common Expression Language, with what a workflow can speak of.
//
// It computes only and imports nothing of ours. What it keeps true: a text that
// was compiled without mistakes speaks only of params that are declared, with
// their types, and of tasks that are upstream; and an evaluation ends, because
// its cost is bounded.
package expr

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/interpreter"
)

// Param is a declared param: its type by the words of the definition, the type
// of a list's items, and whether it may have no value.
type Param struct {
	Name, Type, Of string
	Nullable       bool
}

// Env compiles the expressions of one workflow. It may be used by one goroutine
// at a time.
type Env struct {
	env    *cel.Env
	params []string
	tasks  []string // every task of the workflow

	mu    sync.Mutex
	calls []call // of task("…"), in the text that is being compiled
}

// call is one task("…").
type call struct {
	task string
	at   common.Location
}

// costLimit bounds the work of one evaluation, in CEL's units: an expression
// over a list of some ten thousand items stays under it.
const costLimit = 1_000_000

// tasksVariable holds what is known of the tasks; no text can name it, because
// it begins with @.
const tasksVariable = "@tasks"

// New makes the environment for a workflow with those params and tasks.
func New(params []Param, tasks []string) (*Env, error) {
	e := &Env{tasks: tasks}
	options := []cel.EnvOption{
		cel.CrossTypeNumericComparisons(true),
		cel.Variable("window.start", cel.TimestampType),
		cel.Variable("window.end", cel.TimestampType),
		cel.Variable("run.id", cel.StringType),
		cel.Variable("run.number", cel.IntType),
		cel.Variable("run.version", cel.IntType),
		cel.Variable("run.cause", cel.StringType),
		cel.Variable(tasksVariable, cel.MapType(cel.StringType, cel.DynType)),
		cel.Macros(append(cel.StandardMacros, cel.GlobalMacro("task", 1, e.taskMacro))...),
	}
	for _, p := range params {
		e.params = append(e.params, p.Name)
		options = append(options, cel.Variable("params."+p.Name, p.celType()))
	}
	env, err := cel.NewEnv(append(options, timeFunctions()...)...)
	e.env = env
	return e, err
}

func (p Param) celType() *cel.Type {
	t := plainType(p.Type)
	if p.Type == "list" {
		t = cel.ListType(plainType(p.Of))
	}
	if p.Nullable && p.Type != "list" && p.Type != "object" {
		t = cel.NullableType(t)
	}
	return t
}

func plainType(word string) *cel.Type {
	switch word {
	case "number":
		return cel.DoubleType
	case "whole":
		return cel.IntType
	case "bool":
		return cel.BoolType
	case "moment":
		return cel.TimestampType
	case "length":
		return cel.DurationType
	case "object":
		return cel.MapType(cel.StringType, cel.DynType)
	}
	return cel.StringType
}

// taskMacro turns task("name") into a look-up in tasksVariable, and notes the
// name, so that it can be checked against what is upstream.
func (e *Env) taskMacro(factory cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
	name, ok := "", false
	if args[0].Kind() == ast.LiteralKind {
		name, ok = args[0].AsLiteral().Value().(string)
	}
	if !ok {
		return nil, factory.NewError(args[0].ID(), `the name of a task is written in quotes, as in task("load")`)
	}
	e.calls = append(e.calls, call{name, factory.OffsetLocation(args[0].ID())})
	return factory.NewCall("_[_]", factory.NewIdent(tasksVariable), factory.NewLiteral(types.String(name))), nil
}

// Mistake is what is wrong in a text, at its line and column, both from 1.
type Mistake struct {
	Line, Column int
	Message, Fix string
}

// Expression is a compiled expression. It may be evaluated by many goroutines.
type Expression struct {
	Text    string
	Tasks   []string // those that it speaks of
	program cel.Program
	list    bool // its value is a list for certain
}

// Condition compiles a text whose value is true or false. upstream tells which
// tasks come before.
func (e *Env) Condition(text string, upstream func(string) bool) (*Expression, []Mistake) {
	compiled, kind, mistakes := e.compile(text, upstream)
	if mistakes == nil && kind.Kind() != types.BoolKind && kind.Kind() != types.DynKind {
		return nil, []Mistake{{1, 1, fmt.Sprintf("it is of the type %s, not true or false", kind), "compare it with something, as in == or >"}}
	}
	return compiled, mistakes
}

// Value compiles a text that may have any value.
func (e *Env) Value(text string, upstream func(string) bool) (*Expression, []Mistake) {
	compiled, _, mistakes := e.compile(text, upstream)
	return compiled, mistakes
}

func (e *Env) compile(text string, upstream func(string) bool) (*Expression, *cel.Type, []Mistake) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.calls = nil
	tree, issues := e.env.Compile(text)
	var mistakes []Mistake
	if issues != nil {
		for _, err := range issues.Errors() {
			mistakes = append(mistakes, e.explain(err))
		}
	}
	out := &Expression{Text: text}
	for _, c := range e.calls {
		switch {
		case !slices.Contains(e.tasks, c.task):
			mistakes = append(mistakes, Mistake{c.at.Line(), c.at.Column() + 1, fmt.Sprintf("there is no task %q", c.task), "name one that comes before"})
		case !upstream(c.task):
			mistakes = append(mistakes, Mistake{c.at.Line(), c.at.Column() + 1, fmt.Sprintf("task %q does not come before this one, so its result is not known", c.task), "add it to after"})
		case !slices.Contains(out.Tasks, c.task):
			out.Tasks = append(out.Tasks, c.task)
		}
	}
	if mistakes != nil {
		return nil, nil, mistakes
	}
	program, err := e.env.Program(tree, cel.CostLimit(costLimit), cel.InterruptCheckFrequency(1000))
	if err != nil {
		return nil, nil, []Mistake{{1, 1, err.Error(), ""}}
	}
	out.program, out.list = program, tree.OutputType().Kind() == types.ListKind
	return out, tree.OutputType(), nil
}

// explain says what CEL says in the words of a workflow.
func (e *Env) explain(err *cel.Error) Mistake {
	m := Mistake{Line: err.Location.Line(), Column: err.Location.Column() + 1, Message: strings.ReplaceAll(err.Message, "\n", " ")}
	name, isReference := strings.CutPrefix(m.Message, "undeclared reference to '")
	name, _, _ = strings.Cut(name, "'")
	if dot := strings.IndexByte(name, '.'); dot > 0 { // CEL points at the dot
		m.Column = max(1, m.Column-dot)
	}
	param, isParam := strings.CutPrefix(name, "params.")
	switch {
	case isReference && name == "params":
		m.Message, m.Fix = "the workflow has no params", "declare them under params"
	case isReference && isParam:
		m.Message = fmt.Sprintf("there is no param %q", param)
		m.Fix = "the params are: " + strings.Join(e.params, ", ")
	case isReference:
		m.Message = fmt.Sprintf("%q is not known here", name)
		m.Fix = `known are params, window.start, window.end, run.id, run.number, run.version, run.cause and task("…")`
	case strings.HasPrefix(m.Message, "found no matching overload for "):
		m.Message = "these types do not go together: " + strings.TrimPrefix(m.Message, "found no matching overload for ")
	}
	return m
}

// Facts are what an evaluation knows.
type Facts struct {
	Params     map[string]any // text and choice as string, number float64, whole int64, moment time.Time, length time.Duration
	Start, End time.Time      // of the window; both zero without one
	RunID      string
	RunNumber  int
	RunVersion int
	RunCause   string
	Task       func(name string) (state string, result map[string]any)
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
	case tasksVariable:
		known := make(map[string]any, len(f.tasks))
		for _, task := range f.tasks {
			state, result := f.Task(task)
			one := map[string]any{"state": state, "result": nil}
			if result != nil {
				one["result"] = result
			}
			known[task] = one
		}
		return known, true
	}
	return nil, false
}

// Parent is there because CEL wants it.
func (f *facts) Parent() interpreter.Activation { return nil }

// facts are the Facts of one evaluation, with the tasks that it speaks of.
type facts struct {
	*Facts
	tasks []string
}

// Eval is the value of the expression, in the Go types of JSON and time.Time,
// time.Duration and int64.
func (x *Expression) Eval(f *Facts) (any, error) {
	value, _, err := x.program.Eval(&facts{f, x.Tasks})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", x.Text, plainError(err))
	}
	return goValue(value), nil
}

// Holds tells whether a condition is true.
func (x *Expression) Holds(f *Facts) (bool, error) {
	value, err := x.Eval(f)
	if err != nil {
		return false, err
	}
	truth, ok := value.(bool)
	if !ok {
		return false, fmt.Errorf("%s: it is %v, not true or false", x.Text, value)
	}
	return truth, nil
}

func plainError(err error) error {
	text := err.Error()
	if strings.Contains(text, "cost limit") {
		return fmt.Errorf("it costs too much to be evaluated")
	}
	if key, ok := strings.CutPrefix(text, "no such key: "); ok {
		return fmt.Errorf("there is no %q in it", key)
	}
	return err
}

func goValue(value ref.Val) any {
	switch v := value.(type) {
	case types.Null:
		return nil
	case types.Timestamp:
		return v.Time
	case types.Duration:
		return v.Duration
	}
	switch value.Type().TypeName() {
	case "list":
		return goList(value)
	case "map":
		return goMap(value)
	}
	return value.Value()
}

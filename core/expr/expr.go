// Package expr is the language of conditions and of values in workflows: CEL,
// the Common Expression Language, with what a workflow can speak of.
//
// It computes only and imports nothing of ours. What it keeps true: a text that
// was compiled without mistakes speaks only of params that are declared, with
// their types, and of tasks that are upstream; and an evaluation ends, because
// its cost is bounded.
package expr

import (
	"encoding/json"
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
)

// Param is a declared param: its type by the words of the definition, the type
// of a list's items, and whether it may have no value.
type Param struct {
	Name, Type, Of string
	Nullable       bool
	Watermark      bool // it is one: a value that the workflow keeps
}

// Task is a task, or a resource, that expressions can ask for.
type Task struct {
	Name     string
	Each     bool // it is made for each item of a list: it has results, not a result
	Resource bool
}

// Env compiles the expressions of one workflow. It may be used by one goroutine
// at a time.
type Env struct {
	env        *cel.Env
	params     []string
	watermarks []string
	tasks      []Task   // every task and resource of the workflow
	further    []string // the names that are known besides, here
	news       bool     // it may be asked whether there is something new in a data set

	calls *calls
}

// calls are those of task("…"), resource("…") and new("…") in the text that is
// being compiled.
type calls struct {
	mu   sync.Mutex
	made []call
	news []call
}

type call struct {
	name     string
	resource bool
	at       common.Location
}

// Scope tells of which tasks and resources an expression may speak.
type Scope func(Task) bool

// costLimit bounds the work of one evaluation, in CEL's units: an expression
// over a list of some ten thousand items stays under it.
const costLimit = 1_000_000

// These hold what is known of the tasks and the resources; no text can name
// them, because they begin with @.
const (
	tasksVariable     = "@tasks"
	resourcesVariable = "@resources"
	newVariable       = "@new"
)

// New makes the environment for a workflow with those params and tasks.
func New(params []Param, tasks []Task) (*Env, error) {
	e := &Env{tasks: tasks, calls: &calls{}}
	options := []cel.EnvOption{
		cel.CrossTypeNumericComparisons(true),
		cel.Variable("window.start", cel.TimestampType),
		cel.Variable("window.end", cel.TimestampType),
		cel.Variable("run.id", cel.StringType),
		cel.Variable("run.number", cel.IntType),
		cel.Variable("run.version", cel.IntType),
		cel.Variable("run.cause", cel.StringType),
		cel.Variable("run.newest", cel.BoolType),
		cel.Variable("event", cel.MapType(cel.StringType, cel.DynType)),
		cel.Variable("events", cel.ListType(cel.MapType(cel.StringType, cel.DynType))),
		cel.Variable(newVariable, cel.MapType(cel.StringType, cel.BoolType)),
		cel.Variable(tasksVariable, cel.MapType(cel.StringType, cel.DynType)),
		cel.Variable(resourcesVariable, cel.MapType(cel.StringType, cel.DynType)),
		cel.Macros(append(cel.StandardMacros, cel.GlobalMacro("task", 1, e.calls.macro(false)), cel.GlobalMacro("resource", 1, e.calls.macro(true)), cel.GlobalMacro("new", 1, e.calls.newMacro))...),
	}
	for _, p := range params {
		if p.Watermark {
			e.watermarks = append(e.watermarks, p.Name)
			options = append(options, cel.Variable("watermarks."+p.Name, p.celType()))
			continue
		}
		e.params = append(e.params, p.Name)
		options = append(options, cel.Variable("params."+p.Name, p.celType()))
	}
	env, err := cel.NewEnv(append(options, timeFunctions()...)...)
	e.env = env
	return e, err
}

// WithItem is the environment in which, besides, item is known: one of a list.
func (e *Env) WithItem(list *Expression) (*Env, error) { return e.with("item", list.itemType()) }

// With is the environment in which, besides, something of that name is known,
// whatever it is: see Known of Facts.
func (e *Env) With(name string) (*Env, error) { return e.with(name, cel.DynType) }

func (e *Env) with(name string, of *cel.Type) (*Env, error) {
	env, err := e.env.Extend(cel.Variable(name, of))
	out := *e
	out.env, out.further = env, append(slices.Clone(e.further), name)
	return &out, err
}

// WithNew is the environment in which it may be asked, by new("NAME"), whether
// there is something new in a data set.
func (e *Env) WithNew() *Env {
	out := *e
	out.news = true
	return &out
}

func (x *Expression) itemType() *cel.Type {
	if x == nil || x.kind.Kind() != types.ListKind {
		return cel.DynType
	}
	return x.kind.Parameters()[0]
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

// macro turns task("name") into a look-up in tasksVariable, and notes the name,
// so that it can be checked against what is upstream; or the same for resources.
func (c *calls) macro(resource bool) cel.MacroFactory {
	variable, example := tasksVariable, `the name of a task is written in quotes, as in task("load")`
	if resource {
		variable, example = resourcesVariable, `the name of a resource is written in quotes, as in resource("scratch")`
	}
	return func(factory cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
		name, ok := "", false
		if args[0].Kind() == ast.LiteralKind {
			name, ok = args[0].AsLiteral().Value().(string)
		}
		if !ok {
			return nil, factory.NewError(args[0].ID(), example)
		}
		c.made = append(c.made, call{name, resource, factory.OffsetLocation(args[0].ID())})
		return factory.NewCall("_[_]", factory.NewIdent(variable), factory.NewLiteral(types.String(name))), nil
	}
}

// newMacro turns new("name") into a look-up in newVariable, and notes the name.
func (c *calls) newMacro(factory cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
	name, ok := "", false
	if args[0].Kind() == ast.LiteralKind {
		name, ok = args[0].AsLiteral().Value().(string)
	}
	if !ok {
		return nil, factory.NewError(args[0].ID(), `the name of a data set is written in quotes, as in new("readings/raw")`)
	}
	c.news = append(c.news, call{name: name, at: factory.OffsetLocation(args[0].ID())})
	return factory.NewCall("_[_]", factory.NewIdent(newVariable), factory.NewLiteral(types.String(name))), nil
}

// Mistake is what is wrong in a text, at its line and column, both from 1.
type Mistake struct {
	Line, Column int
	Message, Fix string
}

// Expression is a compiled expression. It may be evaluated by many goroutines.
type Expression struct {
	Text    string
	Tasks   []Task   // those, and the resources, that it speaks of
	News    []string // the data sets of which it asks whether there is something new
	program cel.Program
	kind    *cel.Type
}

// Condition compiles a text whose value is true or false. The scope tells which
// tasks come before.
func (e *Env) Condition(text string, scope Scope) (*Expression, []Mistake) {
	x, mistakes := e.Value(text, scope)
	if mistakes == nil && x.kind.Kind() != types.BoolKind && x.kind.Kind() != types.DynKind {
		return nil, []Mistake{{1, 1, fmt.Sprintf("it is of the type %s, not true or false", x.kind), "compare it with something, as in == or >"}}
	}
	return x, mistakes
}

// List compiles a text whose value is a list.
func (e *Env) List(text string, scope Scope) (*Expression, []Mistake) {
	x, mistakes := e.Value(text, scope)
	if mistakes == nil && x.kind.Kind() != types.ListKind && x.kind.Kind() != types.DynKind {
		return nil, []Mistake{{1, 1, fmt.Sprintf("it is of the type %s, not a list", x.kind), `name a list, as in params.stations or task("split").result.parts`}}
	}
	return x, mistakes
}

// Value compiles a text that may have any value.
func (e *Env) Value(text string, scope Scope) (*Expression, []Mistake) {
	e.calls.mu.Lock()
	defer e.calls.mu.Unlock()
	e.calls.made, e.calls.news = nil, nil
	tree, issues := e.env.Compile(text)
	var mistakes []Mistake
	if issues != nil {
		for _, err := range issues.Errors() {
			mistakes = append(mistakes, e.explain(err))
		}
	}
	out := &Expression{Text: text}
	for _, c := range e.calls.made {
		i := slices.IndexFunc(e.tasks, func(t Task) bool { return t.Name == c.name && t.Resource == c.resource })
		what, fix, add := "task", "name one that comes before", fmt.Sprintf("task %q does not come before this one, so its result is not known", c.name)
		if c.resource {
			what, fix, add = "resource", "name one that it is within", fmt.Sprintf("this is not within the resource %q, so nothing is known of it", c.name)
		}
		wrong := func(message, fix string) {
			mistakes = append(mistakes, Mistake{c.at.Line(), c.at.Column() + 1, message, fix})
		}
		switch {
		case i < 0:
			wrong(fmt.Sprintf("there is no %s %q", what, c.name), fix)
		case !scope(e.tasks[i]) && c.resource:
			wrong(add, "add it to within")
		case !scope(e.tasks[i]):
			wrong(add, "add it to after")
		case !slices.Contains(out.Tasks, e.tasks[i]):
			out.Tasks = append(out.Tasks, e.tasks[i])
		}
	}
	for _, c := range e.calls.news {
		if !e.news {
			mistakes = append(mistakes, Mistake{c.at.Line(), c.at.Column() + 1, "it can be asked only of a whole workflow whether there is something new in a data set", "put it into the only_if of the workflow"})
		}
		if !slices.Contains(out.News, c.name) {
			out.News = append(out.News, c.name)
		}
	}
	if mistakes == nil {
		mistakes = e.fields(tree)
	}
	if mistakes != nil {
		return nil, mistakes
	}
	program, err := e.env.Program(tree, cel.CostLimit(costLimit), cel.InterruptCheckFrequency(1000))
	if err != nil {
		return nil, []Mistake{{1, 1, err.Error(), ""}}
	}
	out.program, out.kind = program, tree.OutputType()
	return out, nil
}

// fields finds what is asked of a task that no task has.
func (e *Env) fields(tree *cel.Ast) (mistakes []Mistake) {
	native := tree.NativeRep()
	ast.PostOrderVisit(native.Expr(), ast.NewExprVisitor(func(x ast.Expr) {
		if x.Kind() != ast.SelectKind || x.AsSelect().Operand().Kind() != ast.CallKind {
			return
		}
		call := x.AsSelect().Operand().AsCall()
		if call.FunctionName() != "_[_]" || call.Args()[0].Kind() != ast.IdentKind {
			return
		}
		variable := call.Args()[0].AsIdent()
		if variable != tasksVariable && variable != resourcesVariable {
			return
		}
		name, _ := call.Args()[1].AsLiteral().Value().(string)
		each := slices.ContainsFunc(e.tasks, func(t Task) bool { return t.Name == name && t.Each && !t.Resource && variable == tasksVariable })
		has := []string{"state", "result"}
		if each {
			has[1] = "results"
		}
		field := x.AsSelect().FieldName()
		if slices.Contains(has, field) {
			return
		}
		at := native.SourceInfo().GetStartLocation(x.ID())
		m := Mistake{at.Line(), at.Column() + 1, fmt.Sprintf("what is known of %q is its state and its result, but no %s", name, field), "write .state or .result"}
		if each {
			m.Message, m.Fix = fmt.Sprintf("task %q is made for each item, so it has no %s", name, field), "write .results, a list in the order of the items, or .state"
		}
		mistakes = append(mistakes, m)
	}))
	return mistakes
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
	mark, isMark := strings.CutPrefix(name, "watermarks.")
	switch {
	case isReference && name == "params":
		m.Message, m.Fix = "the workflow has no params", "declare them under params"
	case isReference && name == "item":
		m.Message, m.Fix = "there is no item here", "item is known in what a task with for_each is given"
	case isReference && name == "watermarks":
		m.Message, m.Fix = "the workflow has no watermarks", "declare them under watermarks"
	case isReference && isMark:
		m.Message = fmt.Sprintf("there is no watermark %q", mark)
		m.Fix = "the watermarks are: " + strings.Join(e.watermarks, ", ")
	case isReference && isParam:
		m.Message = fmt.Sprintf("there is no param %q", param)
		m.Fix = "the params are: " + strings.Join(e.params, ", ")
	case isReference:
		m.Message = fmt.Sprintf("%q is not known here", name)
		m.Fix = `known are params, window.start, window.end, run.id, run.number, run.version, run.cause, run.newest, event, events, task("…") and resource("…")`
		if e.further != nil {
			m.Fix = strings.Replace(m.Fix, "params,", strings.Join(e.further, ", ")+", params,", 1)
		}
	case strings.HasPrefix(m.Message, "found no matching overload for "):
		m.Message = "these types do not go together: " + strings.TrimPrefix(m.Message, "found no matching overload for ")
	}
	return m
}

// Eval is the value of the expression, in the Go types of JSON and time.Time,
// time.Duration and int64.
func (x *Expression) Eval(f *Facts) (any, error) {
	value, _, err := x.program.Eval(&facts{f, x.Tasks, x.News})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", x.Text, plainError(err))
	}
	return goValue(value), nil
}

// Items are the values of a list, each as a text that Item reads.
func (x *Expression) Items(f *Facts) ([]string, error) {
	value, err := x.Eval(f)
	if err != nil {
		return nil, err
	}
	list, ok := value.([]any)
	if !ok {
		return nil, fmt.Errorf("%s: it is %s, not a list", x.Text, short(Text(value)))
	}
	texts := make([]string, len(list))
	for i, item := range list {
		switch v := item.(type) {
		case time.Time:
			item = v.UTC().Format(time.RFC3339Nano)
		case time.Duration:
			item = v.String()
		}
		text, err := json.Marshal(item)
		if err != nil {
			return nil, fmt.Errorf("item %d of %s: %w", i, x.Text, err)
		}
		texts[i] = string(text)
	}
	return texts, nil
}

// Item reads the value of an item of the list.
func (x *Expression) Item(text string) (value any, err error) {
	if err := json.Unmarshal([]byte(text), &value); err != nil {
		return nil, err
	}
	switch kind := x.itemType().Kind(); typed := value.(type) {
	case float64:
		if kind == types.IntKind {
			return int64(typed), nil
		}
	case string:
		switch kind {
		case types.TimestampKind:
			return time.Parse(time.RFC3339, typed)
		case types.DurationKind:
			return time.ParseDuration(typed)
		}
	}
	return value, nil
}

func short(text string) string {
	if len(text) > 60 {
		return strings.ToValidUTF8(text[:60], "") + "…"
	}
	return text
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

package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"

	"wiselantern/core/definition"
	"wiselantern/core/expr"
	"wiselantern/core/flow"
)

// A live run judges its own conditions: it knows the params, the window and the
// results that they speak of.

func (l *live) setParams(values definition.Values) {
	l.params = paramTexts(values)
	if l.version.compiled != nil {
		l.native = values.Native(l.version.definition.Params)
	}
}

func (l *live) setMarks(values definition.Values) {
	l.marks = values
	if l.version.compiled != nil {
		params := make([]definition.Param, len(l.version.definition.Watermarks))
		for i, m := range l.version.definition.Watermarks {
			params[i] = m.Param()
		}
		l.nativeMarks = values.Native(params)
	}
}

// keepResult remembers the result of the current attempt of a task, if there are
// expressions that may ask for it.
func (l *live) keepResult(task, attempt int, result map[string]any) {
	if !l.version.keepsResults || l.run.Tasks[task].Attempts != attempt {
		return
	}
	if l.results == nil {
		l.results = map[int]map[string]any{}
	}
	l.results[task] = result
}

func (e *Engine) restoreResults(ctx context.Context, l *live) error {
	if !l.version.keepsResults {
		return nil
	}
	attempts, err := e.store.Attempts(ctx, l.row.ID)
	if err != nil {
		return err
	}
	for _, a := range attempts {
		var result map[string]any
		if a.Result.Valid {
			if err := json.Unmarshal([]byte(a.Result.String), &result); err != nil {
				return fmt.Errorf("the result of attempt %d of a task: %w", a.Number, err)
			}
		}
		l.keepResult(a.Task, a.Number, result)
	}
	return nil
}

// facts are what is known of the run, for the expressions of a task of it.
func (l *live) facts(task int) (*expr.Facts, error) {
	facts := l.runFacts()
	if t := &l.run.Tasks[task]; task >= l.version.plan.Len() {
		var err error
		if facts.Item, err = l.version.compiled.Nodes[t.Of].ForEach.Item(t.Value); err != nil {
			return nil, err
		}
	}
	return facts, nil
}

func (l *live) runFacts() *expr.Facts {
	newest, all := knownEvents(l.events)
	return &expr.Facts{Event: newest, Events: all,
		Params: l.native, Watermarks: l.nativeMarks, Start: l.row.WindowStart.Time(), End: l.row.WindowEnd.Time(),
		RunID: RunName(l.row.Name, l.row.Number), RunNumber: l.row.Number, RunVersion: l.row.Version, RunCause: l.row.Cause, RunNewest: l.row.Newest,
		Task: l.known,
	}
}

// known is what is known of a task or a resource. What was skipped has no result.
func (l *live) known(task expr.Task) (known expr.Known) {
	name := task.Name
	if task.Resource {
		name = definition.Resource{Name: task.Name}.OpenName()
	}
	i, ok := l.version.plan.Index(name)
	if !ok {
		return known
	}
	state := l.run.Tasks[i].State
	known.State = state.String()
	if task.Each {
		known.Results = []any{}
		if given, ok := l.results[i]["results"].([]any); ok && l.run.Tasks[i].Items == 0 { // it was left out
			known.Results = given
		}
		for _, item := range l.run.ItemPlaces(i) {
			var result any
			if l.run.Tasks[item].State == flow.Succeeded && l.results[item] != nil {
				result = l.results[item]
			}
			known.Results = append(known.Results, result)
		}
	} else if state != flow.Skipped {
		known.Result = l.results[i]
	}
	return known
}

// OnlyIf tells whether the condition of a task holds.
func (l *live) OnlyIf(task int) (bool, error) {
	return l.version.compiled.Nodes[task].OnlyIf.Holds(l.runFacts())
}

// mostItems bounds the list of a task that is made for each of its items.
const mostItems = 100_000

// Items are the items of the list of a task, each as JSON.
func (l *live) Items(task int) ([]string, error) {
	values, err := l.version.compiled.Nodes[task].ForEach.Items(l.runFacts())
	if len(values) > mostItems {
		return nil, fmt.Errorf("it has %d items, over the limit of %d", len(values), mostItems)
	}
	return values, err
}

// Route are the tasks that a route chooses: those of its first rule that holds.
func (l *live) Route(task int) (chosen []int, err error) {
	facts := l.runFacts()
	for i, condition := range l.version.compiled.Nodes[task].Route {
		holds := condition == nil // the else
		if !holds {
			if holds, err = condition.Holds(facts); err != nil {
				return nil, err
			}
		}
		if !holds {
			continue
		}
		for _, name := range l.version.nodes[task].Route[i].To {
			to, _ := l.version.plan.Index(name)
			chosen = append(chosen, to)
		}
		return chosen, nil
	}
	return nil, nil
}

// given are the words and the variables of a task, with the values of their
// expressions.
func (l *live) given(task int) (words []string, env map[string]string, err error) {
	t := l.node(task)
	words, env = t.Exec, t.Env
	if l.version.compiled == nil {
		return words, env, nil
	}
	compiled := &l.version.compiled.Nodes[l.version.plan.Node(l.run, task)]
	facts, err := l.facts(task)
	if err != nil {
		return nil, nil, err
	}
	if compiled.Exec != nil {
		words = nil
		for _, template := range compiled.Exec {
			some, err := template.Words(facts)
			if err != nil {
				return nil, nil, err
			}
			words = append(words, some...)
		}
		if len(words) == 0 || words[0] == "" {
			return nil, nil, fmt.Errorf("exec names no program")
		}
	}
	if facts.Item != nil || compiled.Env != nil {
		env = maps.Clone(t.Env)
	}
	if task >= l.version.plan.Len() {
		if env == nil {
			env = map[string]string{}
		}
		env["LANTERN_ITEM"] = expr.Text(facts.Item)
	}
	if compiled.Env != nil {
		for name, template := range compiled.Env {
			if env[name], err = template.Text(facts); err != nil {
				return nil, nil, err
			}
		}
	}
	return words, env, nil
}

func chosenText(chosen []int) string {
	if chosen == nil {
		return ""
	}
	text, err := json.Marshal(chosen)
	if err != nil {
		panic("numbers are plain data: " + err.Error())
	}
	return string(text)
}

func readChosen(text string) (chosen []int, err error) {
	if text == "" {
		return nil, nil
	}
	err = json.Unmarshal([]byte(text), &chosen)
	return chosen, err
}

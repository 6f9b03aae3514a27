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

// keepResult remembers the result of the current attempt of a task, if there are
// expressions that may ask for it.
func (l *live) keepResult(task, attempt int, result map[string]any) {
	if l.version.compiled == nil || l.run.Tasks[task].Attempts != attempt {
		return
	}
	if l.results == nil {
		l.results = map[int]map[string]any{}
	}
	l.results[task] = result
}

func (e *Engine) restoreResults(ctx context.Context, l *live) error {
	if l.version.compiled == nil {
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

func (l *live) facts() *expr.Facts {
	return &expr.Facts{
		Params: l.native, Start: l.row.WindowStart.Time(), End: l.row.WindowEnd.Time(),
		RunID: RunName(l.row.Name, l.row.Number), RunNumber: l.row.Number, RunVersion: l.row.Version, RunCause: l.row.Cause,
		Task: func(name string) (string, map[string]any) {
			i, ok := l.version.plan.Index(name)
			if !ok {
				return "", nil
			}
			state := l.run.Tasks[i].State
			if state == flow.Skipped {
				return state.String(), nil
			}
			return state.String(), l.results[i]
		},
	}
}

// OnlyIf tells whether the condition of a task holds.
func (l *live) OnlyIf(task int) (bool, error) {
	return l.version.compiled[task].OnlyIf.Holds(l.facts())
}

// Route are the tasks that a route chooses: those of its first rule that holds.
func (l *live) Route(task int) (chosen []int, err error) {
	facts := l.facts()
	for i, condition := range l.version.compiled[task].Route {
		holds := condition == nil // the else
		if !holds {
			if holds, err = condition.Holds(facts); err != nil {
				return nil, err
			}
		}
		if !holds {
			continue
		}
		for _, name := range l.version.definition.Tasks[task].Route[i].To {
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
	t := &l.version.definition.Tasks[task]
	words, env = t.Exec, t.Env
	if l.version.compiled == nil {
		return words, env, nil
	}
	compiled, facts := &l.version.compiled[task], l.facts()
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
	if compiled.Env != nil {
		env = maps.Clone(t.Env)
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

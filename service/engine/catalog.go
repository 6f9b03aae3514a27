package engine

import (
	"context"
	"slices"
	"strings"

	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// Listed is what a workflow is found by.
type Listed struct {
	ID      int64
	Name    string
	Owner   string
	Labels  []string
	Project string
	Paused  bool
}

// Catalog lists the workflows that are there, by name.
func (e *Engine) Catalog(ctx context.Context) (all []Listed, err error) {
	err = e.ask(ctx, func(*batch) error {
		for name, w := range e.workflows {
			if !w.row.Removed.Valid {
				d := w.current.definition
				all = append(all, Listed{w.row.ID, name, d.Owner, d.Labels, w.current.row.Project, w.row.PausedAt.Valid})
			}
		}
		return nil
	})
	slices.SortFunc(all, func(a, b Listed) int { return strings.Compare(a.Name, b.Name) })
	return all, err
}

// hidden stands where a secret was.
const hidden = "(secret)"

// Given is what the newest attempt of a task is or would be given, with hidden in
// the places of secrets. It is told from the records, beside the loop.
func (e *Engine) Given(ctx context.Context, run store.Run, task string) (o dispatch.Order, err error) {
	row, err := e.store.Version(ctx, run.Workflow, run.Version)
	if err != nil {
		return o, err
	}
	v, err := newVersion(row)
	if err != nil {
		return o, err
	}
	l, err := e.restore(ctx, run, v)
	if err != nil {
		return o, err
	}
	place, err := l.find(task)
	if err != nil {
		return o, err
	}
	if o, err = l.order(place, max(1, l.run.Tasks[place].Attempts)); err != nil {
		return o, &RefusedError{"what it is given cannot be told: " + err.Error()}
	}
	var secrets []string
	for _, p := range v.definition.Params {
		if value := l.params[p.Name]; p.Secret && value != "" {
			secrets = append(secrets, value, hidden)
		}
	}
	hide := strings.NewReplacer(secrets...).Replace
	o.Exec, o.Env, o.Params, o.Marks = hideIn(o.Exec, hide), hideInMap(o.Env, hide), hideInMap(o.Params, hide), hideInMap(o.Marks, hide)
	return o, nil
}

func hideIn(all []string, hide func(string) string) []string {
	out := make([]string, len(all))
	for i, text := range all {
		out[i] = hide(text)
	}
	return out
}

func hideInMap(all map[string]string, hide func(string) string) map[string]string {
	out := make(map[string]string, len(all))
	for name, text := range all {
		out[name] = hide(text)
	}
	return out
}

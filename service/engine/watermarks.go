package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"wiselantern/core/definition"
	"wiselantern/service/store"
)

// Watermarks are values that outlive a run. A run sees them as they were when it was
// made, and changes them only when it has succeeded.

// setWatermarks sets what a run that has succeeded leaves for the next ones. A
// backfill works on the past, and leaves them as they are.
func (b *batch) setWatermarks(l *live) {
	if l.row.Backfill.Valid || l.version.compiled == nil || l.version.compiled.Set == nil {
		return
	}
	facts := l.runFacts()
	for _, m := range l.version.definition.Watermarks {
		template := l.version.compiled.Set[m.Name]
		if template == nil {
			continue
		}
		value, err := template.Value(facts)
		if value = plainValue(value); err == nil && value != nil {
			if text, isText := value.(string); isText {
				value, err = m.Param().Parse(text)
			} else {
				value, err = m.Param().Check(value)
			}
		}
		if err != nil {
			b.AddTransition(store.Transition{Run: l.row.ID, At: store.At(b.at), Before: string(l.run.State), After: string(l.run.State),
				Reason: fmt.Sprintf("the watermark %s stays as it is: %v", m.Name, err)})
			continue
		}
		if value != nil {
			b.changeWatermark(l.workflow, m.Name, value, l.row.ID, "")
		}
	}
}

func (b *batch) changeWatermark(w *workflow, name string, value any, run int64, person string) {
	text, err := json.Marshal(value)
	if err != nil {
		panic("a value is plain data: " + err.Error())
	}
	if w.watermarks[name] == string(text) {
		return
	}
	if w.watermarks == nil {
		w.watermarks = map[string]string{}
	}
	w.watermarks[name] = string(text)
	row := store.Watermark{Workflow: w.row.ID, Name: name, Value: string(text), At: store.At(b.at), Person: person}
	if run != 0 {
		row.Run = number(run)
	}
	b.AddWatermark(row)
	b.tell(AllRuns)
}

// watermarksNow are the watermarks of the workflow as a new run sees them.
func (w *workflow) watermarksNow() definition.Values {
	values := definition.Values{}
	for _, m := range w.current.definition.Watermarks {
		values[m.Name] = m.Initial
		if text, ok := w.watermarks[m.Name]; ok {
			var value any
			if json.Unmarshal([]byte(text), &value) == nil {
				if checked, err := m.Param().Check(value); err == nil { // its type may be another one now
					values[m.Name] = checked
				}
			}
		}
	}
	return values
}

// SetWatermark has a person set a watermark.
func (e *Engine) SetWatermark(ctx context.Context, workflow, name, text, by string) error {
	return e.submit(ctx, func(b *batch) error {
		w, err := e.find(workflow)
		if err != nil {
			return err
		}
		var names []string
		for _, m := range w.current.definition.Watermarks {
			names = append(names, m.Name)
		}
		i := slices.Index(names, name)
		if i < 0 {
			return Unknown("watermark", name, names)
		}
		value, err := w.current.definition.Watermarks[i].Param().Parse(text)
		if err != nil {
			return &RefusedError{fmt.Sprintf("watermark %q: %v", name, err)}
		}
		b.changeWatermark(w, name, value, 0, by)
		return nil
	})
}

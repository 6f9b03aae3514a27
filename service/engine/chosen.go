package engine

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"

	"wiselantern/core/flow"
	"wiselantern/service/store"
)

// chosen reads which tasks of a run are wanted, and the results that are given
// for others, by their numbers.
func (w *workflow) chosen(wanted Wanted, by string) (choose flow.Choose, given map[int]map[string]any, err error) {
	plan := w.current.plan
	names := make([]string, len(w.current.definition.Tasks))
	for i := range names {
		names[i] = plan.Name(i)
	}
	choose.By = by
	for _, name := range wanted.Only {
		i := slices.Index(names, name)
		if i < 0 {
			return choose, nil, Unknown("task", name, names)
		}
		choose.Tasks = append(choose.Tasks, i)
	}
	given = map[int]map[string]any{}
	for name, result := range wanted.Results {
		i := slices.Index(names, name)
		switch {
		case i < 0:
			return choose, nil, Unknown("task", name, names)
		case wanted.Only == nil || slices.Contains(choose.Tasks, i):
			return choose, nil, &RefusedError{fmt.Sprintf("a result is given for the task %s, which is not left out; name the tasks that are wanted, and not this one", name)}
		}
		given[i] = result
	}
	return choose, given, nil
}

// givenAttempt is the number under which a result is kept that was given for a
// task that is left out. No attempt has it.
const givenAttempt = 0

func (b *batch) giveResults(l *live, given map[int]map[string]any) {
	for task, result := range given {
		text, err := json.Marshal(result)
		if err != nil {
			panic("a result is plain data: " + err.Error())
		}
		b.AddAttempt(l.row.ID, task, givenAttempt, store.At(b.at))
		b.EndAttempt(store.Attempt{Run: l.row.ID, Task: task, Number: givenAttempt, State: string(flow.AttemptSucceeded), Ended: store.At(b.at), Result: sql.NullString{String: string(text), Valid: true}})
		l.keepResult(task, givenAttempt, result)
	}
}

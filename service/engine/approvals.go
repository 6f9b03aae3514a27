package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"wiselantern/core/flow"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// ask works out the question of a task.
func (p *parked) ask() error {
	facts, err := p.live.facts(p.id.Task)
	if err != nil {
		return err
	}
	compiled := &p.live.version.compiled.Nodes[p.live.version.plan.Node(p.live.run, p.id.Task)]
	q := &Question{From: p.live.node(p.id.Task).Approve.From}
	if q.Ask, err = compiled.Ask.Text(facts); err != nil {
		return err
	}
	for name, template := range compiled.Show {
		value, err := template.Value(facts)
		if err != nil {
			return fmt.Errorf("what is shown as %s: %w", name, err)
		}
		if q.Show == nil {
			q.Show = map[string]any{}
		}
		q.Show[name] = plainValue(value)
	}
	p.asked = q
	p.things = []thing{{spec: awaiting{Ask: q}, state: thingWaiting}}
	return nil
}

// Reply is a person's answer to a question.
type Reply struct {
	Yes    bool
	Reason string
	By     string
}

// Answer gives a person's answer to the question of a task. Attempt is the one that
// asks, or 0 for whichever does.
func (e *Engine) Answer(ctx context.Context, run store.Run, task string, attempt int, r Reply) error {
	return e.submit(ctx, func(b *batch) error {
		name := RunName(run.Name, run.Number)
		l := e.runs[run.ID]
		if l == nil {
			return &RefusedError{fmt.Sprintf("run %s has ended, so nothing in it asks any more", name)}
		}
		place, err := l.find(task)
		if err != nil {
			return err
		}
		id := dispatch.AttemptID{Run: run.ID, Task: place, Attempt: l.run.Tasks[place].Attempts}
		p := e.parked[id]
		if p == nil || p.asked == nil || l.run.Tasks[place].Stopping {
			return &RefusedError{fmt.Sprintf("task %s of run %s asks nothing now: it %s", task, name, now(l.run.Tasks[place].State))}
		}
		if attempt != 0 && attempt != id.Attempt {
			return &RefusedError{fmt.Sprintf("this was the question of attempt %d of task %s of run %s; attempt %d asks now, and has a link of its own", attempt, task, name, id.Attempt)}
		}
		if p.asked.From != nil && !slices.Contains(p.asked.From, r.By) {
			return &RefusedError{fmt.Sprintf("task %s of run %s asks %s, and you are %s", task, name, strings.Join(p.asked.From, " or "), r.By)}
		}
		b.answer(p, r)
		return nil
	})
}

func now(s flow.State) string {
	if s.Settled() {
		return past(s)
	}
	return "is " + s.String()
}

// answer ends the attempt that asks, as the answer says. By is empty when the time
// for an answer was over.
func (b *batch) answer(p *parked, r Reply) {
	word, outcome := "no", flow.AttemptSkipped
	switch {
	case r.Yes:
		word, outcome = "yes", flow.AttemptSucceeded
	case p.live.node(p.id.Task).Approve.No == "fail":
		outcome = flow.AttemptRefused
	}
	reason := fmt.Sprintf("%s said %s", r.By, word)
	if r.By == "" {
		reason = "nobody answered in time, and on_timeout is " + word
	}
	if r.Reason != "" {
		reason += ": " + r.Reason
	}
	result := map[string]any{"answer": word, "by": r.By, "reason": r.Reason, "at": b.at.UTC().Format(time.RFC3339)}
	p.things[0].state, p.things[0].result = thingCame, result
	b.setThing(p, 0)
	b.note(p, 0, reason)
	b.unpark(p.id)
	b.end(p.live, p.id.Task, p.id.Attempt, outcome, result, reason, r.By)
}

package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"wiselantern/core/definition"
	"wiselantern/service/store"
)

// names are those of the workflows that are there, in order.
func (e *Engine) names() (names []string) {
	for _, name := range sortedNames(e.workflows) {
		if !e.workflows[name].row.Removed.Valid {
			names = append(names, name)
		}
	}
	return names
}

// checkLinks refuses workflows that would wait for others, or be started by them,
// wrongly or in a circle.
func (e *Engine) checkLinks(changed []*definition.Workflow) error {
	is := make(map[string]bool, len(changed))
	byName := make(map[string]*definition.Workflow, len(changed))
	for _, w := range changed {
		is[w.Name], byName[w.Name] = true, w
	}
	all := slices.Clone(changed)
	for _, name := range e.names() {
		if !is[name] {
			byName[name] = e.workflows[name].current.definition
			all = append(all, byName[name])
		}
	}
	for _, w := range all {
		if !is[w.Name] && !w.LeansOn(is) {
			continue
		}
		if err := definition.LinkMistake(w, func(name string) *definition.Workflow { return byName[name] }); err != nil {
			return &RefusedError{err.Error()}
		}
	}
	if err := definition.CircleMistake(all); err != nil {
		return &RefusedError{err.Error()}
	}
	return nil
}

// Links are the arrows between all workflows and what they have in common.
func (e *Engine) Links(ctx context.Context) (links []definition.Link, err error) {
	err = e.ask(ctx, func(*batch) error {
		for _, name := range e.names() {
			links = append(links, e.workflows[name].current.links...)
		}
		return nil
	})
	return links, err
}

// Remove has a workflow be there no more: nothing of it starts, and its runs stay to
// be read. What others lose by that is told; it is done only with anyway, or if
// nobody loses anything. With dry it is only told.
func (e *Engine) Remove(ctx context.Context, name, by string, anyway, dry bool) (warnings []string, err error) {
	err = e.submit(ctx, func(b *batch) error {
		w, err := e.find(name)
		if err != nil {
			return err
		}
		if len(w.open) > 0 {
			return &RefusedError{fmt.Sprintf("%s has %s that are queued or running; wait for their end, or stop them first", name, plural(len(w.open), "run"))}
		}
		for _, other := range e.names() {
			if other == name {
				continue
			}
			for _, l := range e.workflows[other].current.links {
				switch {
				case l.From == definition.WorkflowNode+name && l.Kind == "waits":
					warnings = append(warnings, fmt.Sprintf("%s waits for it, in task %s", other, l.Task))
				case l.From == definition.WorkflowNode+name && l.Kind == "starts":
					warnings = append(warnings, fmt.Sprintf("%s starts after it", other))
				case l.To == definition.WorkflowNode+name && l.Kind == "starts" && l.Task != "":
					warnings = append(warnings, fmt.Sprintf("%s starts it, in task %s", other, l.Task))
				}
			}
			for _, l := range w.current.links {
				dataset, is := cutNode(l.To, definition.DatasetNode)
				if is && slices.ContainsFunc(e.workflows[other].current.links, func(o definition.Link) bool { return o.From == l.To }) {
					warnings = append(warnings, fmt.Sprintf("%s leans on the data set %s, which it updates", other, dataset))
				}
			}
		}
		if dry {
			return nil
		}
		if len(warnings) > 0 && !anyway {
			return &RefusedError{fmt.Sprintf("others would miss %s: %s; change those first, or say --anyway", name, strings.Join(warnings, "; "))}
		}
		w.row.Removed, w.row.RemovedBy = store.At(b.at), by
		b.RemoveWorkflow(w.row.ID, w.row.Removed, by)
		b.dropGatherings(w)
		b.closeTroubles(w, by)
		b.effects = append(b.effects, e.subscribe(w)...)
		b.tell(AllRuns)
		return nil
	})
	return warnings, err
}

// dropGatherings gives up what starts have gathered that are there no more.
func (b *batch) dropGatherings(w *workflow) {
	for _, key := range sortedNames(w.gathering) {
		if _, _, there := w.outside(key); there && !w.row.Removed.Valid {
			continue
		}
		for _, a := range w.gathering[key].answers {
			a.State, a.Reason = store.AnswerNone, "the start was taken out while it gathered"
			b.SetAnswer(a)
		}
		delete(w.gathering, key)
	}
}

// takeKept makes what came in while a workflow was paused count, and tells how much
// that is.
func (b *batch) takeKept(w *workflow) (count int) {
	for _, key := range sortedNames(w.gathering) {
		o, place, ok := w.outside(key)
		if !ok {
			continue
		}
		g := w.gathering[key]
		for i := range g.answers {
			if a := &g.answers[i]; a.State == store.AnswerKept {
				a.State, a.Reason = store.AnswerGathering, ""
				b.SetAnswer(*a)
				count++
			}
		}
		if o.Collect > 0 || o.Quiet > 0 || o.Join == "all" {
			b.gathered(w, o, place)
			continue
		}
		delete(w.gathering, key) // each of them makes a run of its own
		for i := range g.answers {
			b.fire(w, o, place, &gathering{answers: g.answers[i : i+1], events: g.events[i : i+1]})
		}
	}
	return count
}

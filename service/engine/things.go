package engine

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"wiselantern/core/definition"
	"wiselantern/core/flow"
	"wiselantern/service/dispatch"
	"wiselantern/service/signals"
	"wiselantern/service/store"
)

// What becomes of the things that a parked attempt waits for: each comes, or can no
// longer come, and the attempt ends when that is enough.

// eventCame gives an event to a wait that it fits.
func (b *batch) eventCame(ev event, s subscriber) {
	p := b.engine.parked[s.attempt]
	if p == nil || p.things[s.place].state != thingWaiting {
		return
	}
	if p.things[s.place].spec.Kind == definition.AwaitDataset {
		b.lookForUpdates(p, s.place)
		return
	}
	b.offer(p, s.place, ev)
}

// offer lets a wait have an event, if its condition holds.
func (b *batch) offer(p *parked, place int, ev event) bool {
	if where := p.compiled(place).Where; where != nil {
		facts, err := p.live.facts(p.id.Task)
		holds := false
		if err == nil {
			facts.Event, facts.Events = ev.Known(), nil
			holds, err = where.Holds(facts)
		}
		if err != nil {
			b.note(p, place, fmt.Sprintf("the event %s of %s came, and its where cannot be told: %v", ev.ID, ev.Source, err))
			return false
		}
		if !holds {
			b.note(p, place, fmt.Sprintf("the event %s of %s came, and its where is false", ev.ID, ev.Source))
			return false
		}
	}
	b.AddAnswer(store.Answer{Event: ev.id, Run: number(p.id.Run), Task: number(int64(p.id.Task)), Attempt: number(int64(p.id.Attempt)), State: store.AnswerWait, At: store.At(b.at)})
	known := map[string]any{"event": plainValue(ev.Known())}
	b.thingCame(p, place, known)
	return true
}

// mostNotesOfOne bounds how many lines a storm of events that a wait does not want
// may make.
const mostNotesOfOne = 1000

// note keeps a line in the log of a parked attempt, once all is recorded.
func (b *batch) note(p *parked, place int, text string) {
	t := &p.things[place]
	t.seen = text
	switch t.notes++; {
	case b.again:
		return // it was written down in the life before
	case t.notes > mostNotesOfOne:
		return
	case t.notes == mostNotesOfOne:
		text += "; what comes from now on is not written down any more"
	}
	at := b.at
	b.effects = append(b.effects, func() { b.engine.noteLater(p.id, at, text) })
}

// thingCame tells that one of the things is there, and ends the attempt if that is
// enough.
func (b *batch) thingCame(p *parked, place int, result map[string]any) {
	t := &p.things[place]
	if b.engine.parked[p.id] != p || t.state != thingWaiting {
		return
	}
	t.state, t.result = thingCame, result
	b.setThing(p, place)
	open := slices.ContainsFunc(p.things, func(t thing) bool { return t.state == thingWaiting })
	if p.join() == "all" && open {
		b.retell(p)
		return
	}
	whole := result
	if p.join() != "" {
		whole = map[string]any{}
		for _, t := range p.things {
			if t.state == thingCame {
				whole[t.spec.Name] = t.result
			}
		}
	}
	b.unpark(p.id)
	if text, err := json.Marshal(whole); err == nil && len(text) > MaxResult {
		b.endInner(p.live, p.id.Task, p.id.Attempt, flow.AttemptRefused, nil, fmt.Sprintf("what came has %d bytes, over the limit of %d for a result; wait for less at a time", len(text), MaxResult))
		return
	}
	b.endInner(p.live, p.id.Task, p.id.Attempt, flow.AttemptSucceeded, whole, "")
}

// thingFailed tells that one of the things can no longer come, and ends the attempt
// if it cannot either.
func (b *batch) thingFailed(p *parked, place int, reason string) {
	t := &p.things[place]
	if b.engine.parked[p.id] != p || t.state != thingWaiting {
		return
	}
	t.state, t.reason = thingFailed, reason
	b.setThing(p, place)
	if p.join() == "any" && slices.ContainsFunc(p.things, func(t thing) bool { return t.state == thingWaiting }) {
		b.retell(p)
		return
	}
	if p.join() == "any" {
		var reasons []string
		for _, t := range p.things {
			reasons = append(reasons, t.spec.Name+": "+t.reason)
		}
		reason = strings.Join(reasons, "; ")
	} else if t.spec.Name != "" {
		reason = t.spec.Name + ": " + reason
	}
	b.unpark(p.id)
	b.endInner(p.live, p.id.Task, p.id.Attempt, flow.AttemptRefused, nil, reason)
}

func (b *batch) setThing(p *parked, place int) {
	t := &p.things[place]
	row := store.Wait{Run: p.id.Run, Task: p.id.Task, Attempt: p.id.Attempt, Place: place, State: t.state, Came: store.At(b.at), Reason: t.reason}
	if t.result != nil {
		text, err := json.Marshal(t.result)
		if err != nil {
			panic("a result is plain data: " + err.Error())
		}
		row.Result = sql.NullString{String: string(text), Valid: true}
	}
	b.SetWait(row)
	b.engine.deafen(p, place)
	b.effects = append(b.effects, func() { b.engine.signals.Forget(p.watchID(place)) })
}

func (p *parked) watchID(place int) signals.ID {
	return signals.ID{Run: p.id.Run, Task: p.id.Task, Attempt: p.id.Attempt, Place: place}
}

// parkedDue ends the wait for a moment, or gives the answer that nobody gave. It is
// false if the timer is for something else.
func (b *batch) parkedDue(t timer) bool {
	p := b.engine.parked[dispatch.AttemptID{Run: t.run, Task: t.task, Attempt: t.attempt}]
	switch {
	case t.thing > 0:
		if p != nil && p.things[t.thing-1].state == thingWaiting {
			b.thingCame(p, t.thing-1, map[string]any{"at": t.at.UTC().Format(time.RFC3339)})
		}
		return true
	case p == nil || p.asked == nil || p.live.run.Tasks[t.task].Stopping:
		return false
	}
	word := p.live.node(t.task).OnTimeout
	if word != "yes" && word != "no" {
		return false
	}
	b.answer(p, Reply{Yes: word == "yes"})
	return true
}

// retell says anew what a task waits for.
func (b *batch) retell(p *parked) {
	l := p.live
	l.run.Tasks[p.id.Task].Reason = p.waitsFor()
	if !l.runDirty && len(l.dirtyTasks) == 0 {
		b.dirty = append(b.dirty, l)
	}
	l.dirtyTasks = append(l.dirtyTasks, p.id.Task)
	b.tell(l.row.ID)
}

// deafen has a parked attempt told no more of one of its things.
func (e *Engine) deafen(p *parked, place int) {
	e.wanted.Remove(subscriber{attempt: p.id, place: place})
	e.forgetRuns(p, place)
}

// unpark forgets a parked attempt; it is false if that was not one.
func (b *batch) unpark(id dispatch.AttemptID) bool {
	p := b.engine.parked[id]
	if p == nil {
		return false
	}
	delete(b.engine.parked, id)
	for place := range p.things {
		if p.things[place].state == thingWaiting {
			b.engine.deafen(p, place)
			switch p.things[place].spec.Kind {
			case definition.AwaitFile, definition.AwaitHTTP, definition.AwaitQuery:
				b.effects = append(b.effects, func() { b.engine.signals.Forget(p.watchID(place)) })
			}
		}
	}
	b.EndWaits(id.Run, id.Task, id.Attempt)
	b.effects = append(b.effects, func() { b.engine.forgetLog(id) })
	return true
}

// stopParked ends a parked attempt that is to be stopped.
func (b *batch) stopParked(id dispatch.AttemptID) {
	p := b.engine.parked[id]
	if p == nil {
		return // its order was not carried out yet
	}
	b.unpark(id)
	b.endInner(p.live, id.Task, id.Attempt, flow.AttemptStopped, nil, p.live.run.Tasks[id.Task].Reason)
}

package engine

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"wiselantern/core/definition"
	"wiselantern/core/expr"
	"wiselantern/core/flow"
	"wiselantern/core/match"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// A task of the kind wait or approve is parked: its attempt is rows here and a few
// words in memory, and holds no worker, no goroutine and no process.

// parked is an attempt that waits for something outside.
type parked struct {
	id     dispatch.AttemptID
	live   *live
	since  time.Time
	things []thing
	asked  *Question // of a question
}

// thing is one of those that a parked attempt waits for.
type thing struct {
	spec   awaiting
	state  string // waiting, came, failed
	result map[string]any
	reason string
	seen   string    // what was seen last
	next   time.Time // when it is looked at again
	notes  int       // lines that were written down

	pending map[windowKey]bool // of several runs of a workflow: those that have not come
	runs    []string           // those that have
}

// awaiting is what is awaited, with the values in their places. It is recorded.
type awaiting struct {
	definition.Awaited
	Ask *Question `json:"ask,omitempty"`
}

// Question is what a person is asked.
type Question struct {
	Ask  string         `json:"ask"`
	From []string       `json:"from,omitempty"`
	Show map[string]any `json:"show,omitempty"`
}

// The states of a thing.
const (
	thingWaiting = "waiting"
	thingCame    = "came"
	thingFailed  = "failed"
)

func (p *parked) join() string {
	if w := p.live.node(p.id.Task).Wait; w != nil {
		return w.Join
	}
	return ""
}

// park begins an attempt of a task that waits.
func (b *batch) park(l *live, task, attempt int) {
	if t := &l.run.Tasks[task]; t.State != flow.Ready || t.Attempts != attempt {
		return // it was stopped in between
	}
	id := dispatch.AttemptID{Run: l.row.ID, Task: task, Attempt: attempt}
	p := &parked{id: id, live: l, since: b.at}
	var err error
	if l.node(task).Approve != nil {
		err = p.ask()
	} else {
		err = p.await()
	}
	if err != nil {
		b.refuse(l, task, attempt, "what it waits for cannot be told: "+err.Error())
		return
	}
	b.WaitAttempt(id.Run, task, attempt, store.At(b.at))
	l.startedAt(task, b.at)
	for i := range p.things {
		spec, err := json.Marshal(p.things[i].spec)
		if err != nil {
			panic("what is awaited is plain data: " + err.Error())
		}
		b.AddWait(store.Wait{Run: id.Run, Task: task, Attempt: attempt, Place: i, State: thingWaiting, Spec: string(spec), Since: store.At(b.at)})
	}
	b.engine.parked[id] = p
	b.step(l, flow.Parked{At: b.at, Task: task, Attempt: attempt, Reason: p.waitsFor()}, "")
	for i := range p.things {
		if b.engine.parked[id] != p {
			return // one of the others was enough
		}
		b.begin(p, i)
	}
}

// await works out what a task waits for.
func (p *parked) await() error {
	facts, err := p.live.facts(p.id.Task)
	if err != nil {
		return err
	}
	wait := p.live.node(p.id.Task).Wait
	for i, a := range wait.For {
		c := p.compiled(i)
		one := awaiting{Awaited: a}
		one.Of, one.With = nil, nil
		for _, template := range c.Of {
			value, err := template.Value(facts)
			if err != nil {
				return err
			}
			list, several := value.([]any)
			if !several {
				list = []any{value}
			}
			for _, item := range list {
				one.Of = append(one.Of, expr.Text(item))
			}
		}
		for _, template := range c.With {
			text, err := template.Text(facts)
			if err != nil {
				return err
			}
			one.With = append(one.With, text)
		}
		for _, text := range []struct {
			from *expr.Template
			into *string
		}{{c.Source, &one.Source}, {c.Subject, &one.Subject}, {c.Body, &one.Body}} {
			if *text.into, err = text.from.Text(facts); err != nil {
				return err
			}
		}
		if a.Headers != nil {
			one.Headers = map[string]string{}
		}
		for name, template := range c.Headers {
			if one.Headers[name], err = template.Text(facts); err != nil {
				return err
			}
		}
		if err := one.check(); err != nil {
			return err
		}
		p.things = append(p.things, thing{spec: one, state: thingWaiting})
	}
	return nil
}

// check finds what is wrong once the values are in their places.
func (a *awaiting) check() error {
	switch a.Kind {
	case definition.AwaitEvent:
		for _, pattern := range []string{a.Of[0], a.Source, a.Subject} {
			if err := match.ParsePattern(pattern); err != nil {
				return err
			}
		}
	case definition.AwaitUntil:
		if _, err := a.moment(); err != nil {
			return err
		}
	case definition.AwaitHTTP:
		if !strings.HasPrefix(a.Of[0], "http://") && !strings.HasPrefix(a.Of[0], "https://") {
			return fmt.Errorf("%q is not an address; write it as http://HOST:PORT/PATH", a.Of[0])
		}
	}
	return nil
}

// moment is when a wait for a time is over.
func (a *awaiting) moment() (time.Time, error) {
	at, err := time.Parse(time.RFC3339, a.Of[0])
	if err != nil {
		return at, fmt.Errorf("%q is not a moment; write it as 2026-03-28T06:00:00+01:00", a.Of[0])
	}
	return at, nil
}

func (p *parked) compiled(place int) *definition.CompiledAwaited {
	return &p.live.version.compiled.Nodes[p.live.version.plan.Node(p.live.run, p.id.Task)].Await[place]
}

// begin looks whether a thing is there already, and else has itself told.
func (b *batch) begin(p *parked, place int) {
	b.listen(p, place)
	t := &p.things[place]
	switch t.spec.Kind {
	case definition.AwaitEvent:
		b.lookForEvents(p, place)
	case definition.AwaitDataset:
		b.lookForUpdates(p, place)
	case definition.AwaitWorkflow:
		b.lookForRuns(p, place)
	case definition.AwaitUntil:
		if at, _ := t.spec.moment(); !at.After(b.at) {
			b.thingCame(p, place, map[string]any{"at": at.UTC().Format(time.RFC3339)})
		}
	}
}

// earlierAtOnce is how many events from before a wait are read at a time.
const earlierAtOnce = 1000

// lookForEvents offers a wait the events that came before it, back to when its run
// was made.
func (b *batch) lookForEvents(p *parked, place int) {
	pattern := p.things[place].pattern()
	subject := pattern.Subject
	if strings.HasSuffix(subject, "*") {
		subject = ""
	}
	for last := int64(0); ; {
		rows := b.EventsSince(pattern.Type, subject, p.live.row.Created, last, earlierAtOnce)
		for _, row := range rows {
			ev := event{id: row.ID}
			if err := json.Unmarshal([]byte(row.Envelope), &ev.Event); err != nil {
				b.engine.log.Error("an event cannot be read", "event", row.ID, "error", err)
				continue
			}
			if pattern.Fits(ev.Event) && b.offer(p, place, ev) {
				return
			}
		}
		if len(rows) < earlierAtOnce {
			return
		}
		last = rows[len(rows)-1].ID
	}
}

func (t *thing) pattern() match.Pattern {
	if t.spec.Kind == definition.AwaitDataset {
		return match.Pattern{Type: DatasetUpdated, Subject: t.spec.Of[0]}
	}
	return match.Pattern{Type: t.spec.Of[0], Source: t.spec.Source, Subject: t.spec.Subject}
}

// listen has a parked attempt told of what it waits for. It is done again after a
// restart.
func (b *batch) listen(p *parked, place int) {
	b.engine.listen(p, place)
	switch t := &p.things[place]; t.spec.Kind {
	case definition.AwaitFile, definition.AwaitHTTP, definition.AwaitQuery:
		watch := b.engine.watchOf(p.watchID(place), &t.spec.Awaited)
		b.effects = append(b.effects, func() { b.engine.signals.Watch(watch) })
	}
}

// listen is what of it is in memory alone.
func (e *Engine) listen(p *parked, place int) {
	t := &p.things[place]
	switch t.spec.Kind {
	case definition.AwaitEvent, definition.AwaitDataset:
		e.wanted.Add(t.pattern(), subscriber{attempt: p.id, place: place})
	case definition.AwaitWorkflow:
		e.awaitRuns(p, place)
	case definition.AwaitUntil:
		at, _ := t.spec.moment()
		e.timers.add(timer{at: at, run: p.id.Run, task: p.id.Task, attempt: p.id.Attempt, thing: place + 1})
	}
}

// waitsFor says in a few words what a parked attempt waits for.
func (p *parked) waitsFor() string {
	if p.asked != nil {
		text := "waits for a yes or no"
		if p.asked.From != nil {
			text += " from " + strings.Join(p.asked.From, " or ")
		}
		return text
	}
	var parts []string
	for _, t := range p.things {
		if t.state == thingWaiting {
			parts = append(parts, t.spec.words())
		}
	}
	word := " and "
	if p.join() == "any" {
		word = " or "
	}
	return "waits for " + strings.Join(parts, word)
}

// words says what is awaited, as in "the event storm.warning".
func (a *awaiting) words() string {
	if a.Ask != nil {
		return "an answer"
	}
	return a.Words()
}

// restoreParked reads what was parked when the records were last written.
func (m *memory) restoreParked(rows []store.Wait) error {
	for _, row := range rows {
		l := m.runs[row.Run]
		if l == nil || row.Task >= len(l.run.Tasks) || l.run.Tasks[row.Task].State != flow.Waiting || l.run.Tasks[row.Task].Attempts != row.Attempt {
			continue
		}
		id := dispatch.AttemptID{Run: row.Run, Task: row.Task, Attempt: row.Attempt}
		p := m.parked[id]
		if p == nil {
			p = &parked{id: id, live: l, since: row.Since.Time()}
			m.parked[id] = p
		}
		t := thing{state: row.State, reason: row.Reason}
		if err := json.Unmarshal([]byte(row.Spec), &t.spec); err != nil {
			return fmt.Errorf("what a task waits for: %w", err)
		}
		if row.Result.Valid {
			if err := json.Unmarshal([]byte(row.Result.String), &t.result); err != nil {
				return fmt.Errorf("what a task has waited for: %w", err)
			}
		}
		p.asked = t.spec.Ask
		p.things = append(p.things, t)
	}
	return nil
}

// awaitAgain has everything that is parked told of what it waits for, and looks
// whether it has come meanwhile.
func (b *batch) awaitAgain() {
	b.again = true
	defer func() { b.again = false }()
	for _, id := range slices.SortedFunc(maps.Keys(b.engine.parked), compareAttempts) {
		p := b.engine.parked[id]
		if l := p.live; l.run.Tasks[id.Task].Stopping { // its end was not recorded
			b.then(func() { b.stopParked(id) })
			continue
		}
		for place := range p.things {
			switch {
			case b.engine.parked[id] != p || p.things[place].state != thingWaiting:
			case p.things[place].spec.Kind == definition.AwaitEvent:
				b.listen(p, place) // an event is offered in the commit in which it comes
			default:
				b.begin(p, place)
			}
		}
	}
}

func compareAttempts(a, b dispatch.AttemptID) int {
	if a.Run != b.Run {
		return int(a.Run - b.Run)
	}
	if a.Task != b.Task {
		return a.Task - b.Task
	}
	return a.Attempt - b.Attempt
}

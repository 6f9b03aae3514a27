package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"wiselantern/core/calendar"
	"wiselantern/core/definition"
	"wiselantern/core/expr"
	"wiselantern/core/match"
	"wiselantern/service/dispatch"
	"wiselantern/service/store"
)

// The types of the events that the service itself tells. Of these, only an update of
// a data set may be told from outside too.
const (
	ownTypes       = "lantern."
	RunEnded       = "lantern.run.ended"
	DatasetUpdated = "lantern.dataset.updated"
	FileArrived    = "lantern.file.arrived"
)

// subscriber is who wants events of a pattern: a start of a workflow, by its key, or
// one thing that an attempt waits for.
type subscriber struct {
	workflow int64
	start    string
	attempt  dispatch.AttemptID
	place    int
}

func compareSubscribers(a, b subscriber) int {
	return cmp.Or(cmp.Compare(a.workflow, b.workflow), cmp.Compare(a.start, b.start), compareAttempts(a.attempt, b.attempt), cmp.Compare(a.place, b.place))
}

// event is an event on the bus.
type event struct {
	match.Event
	id int64 // of its row
}

// Received tells what has become of an event that came in.
type Received struct {
	ID    int64 // the service's own number for it
	Known bool  // it had come before, and nothing was done again
}

// Receive takes events in: each is recorded, and answered once. Via says by which
// door they came.
func (e *Engine) Receive(ctx context.Context, events []match.Event, via, by string) (received []Received, err error) {
	for _, one := range events {
		if err := outsideProblem(one); err != nil {
			return nil, &RefusedError{err.Error()}
		}
	}
	err = e.submit(ctx, func(b *batch) error {
		for _, one := range events {
			id, isNew := b.happened(one, via, by)
			received = append(received, Received{id, !isNew})
		}
		return nil
	})
	return received, err
}

// outsideProblem is what keeps an event from being taken in from outside.
func outsideProblem(e match.Event) error {
	if err := e.Problem(); err != nil {
		return err
	}
	if strings.HasPrefix(e.Type, ownTypes) && e.Type != DatasetUpdated {
		return fmt.Errorf("events of the type %s are told by the service alone; choose a type that does not begin with %s", e.Type, ownTypes)
	}
	if e.Type == DatasetUpdated && e.Subject == "" {
		return fmt.Errorf("an event of the type %s names the data set as its subject, and this one has none", DatasetUpdated)
	}
	text, err := json.Marshal(e.Data)
	if err != nil {
		return fmt.Errorf("the data of the event: %w", err)
	}
	if len(text) > match.MostData {
		return fmt.Errorf("the data of the event has %d bytes, over the limit of %d; send where it is instead", len(text), match.MostData)
	}
	return nil
}

// happened puts an event on the bus: it is recorded, and whoever wants it gets it,
// when the step that is being written down is done with.
func (b *batch) happened(one match.Event, via, person string) (id int64, isNew bool) {
	envelope, err := json.Marshal(one)
	if err != nil {
		panic("an event is plain data: " + err.Error())
	}
	id, isNew = b.AddEvent(store.Event{Source: one.Source, Event: one.ID, Type: one.Type, Subject: one.Subject, Received: store.At(b.at), Via: via, Person: person, Envelope: string(envelope)})
	if !isNew || b.Err() != nil {
		return id, false
	}
	b.tell(AllRuns)
	ev := event{one, id}
	if one.Type == DatasetUpdated {
		b.datasetUpdated(ev, via == "service")
	}
	fitting := b.engine.wanted.Fit(one)
	slices.SortFunc(fitting, compareSubscribers) // the same always, for whoever replays it
	for _, s := range fitting {
		if s.workflow != 0 {
			b.then(func() { b.deliver(ev, s) })
		} else {
			b.then(func() { b.eventCame(ev, s) })
		}
	}
	return id, true
}

// own is an event that the service itself tells.
func (b *batch) own(kind, source, id, subject string, data map[string]any) int64 {
	number, _ := b.happened(match.Event{ID: id, Source: source, Type: kind, Subject: subject, Time: b.at.UTC(), DataType: "application/json", Data: data}, "service", "")
	return number
}

// sourceOf is the source of the events about a workflow.
func sourceOf(workflow string) string { return "/workflows/" + workflow }

// windowData is a window as events tell it, nil if there is none.
func windowData(start, end store.Moment) any {
	if !end.Valid {
		return nil
	}
	return map[string]any{"start": start.Time().Format(time.RFC3339Nano), "end": end.Time().Format(time.RFC3339Nano)}
}

// tellEnd puts the end of a run on the bus.
func (b *batch) tellEnd(l *live) {
	name := RunName(l.row.Name, l.row.Number)
	data := map[string]any{"run": name, "workflow": l.row.Name, "number": l.row.Number, "state": string(l.run.State), "cause": l.row.Cause, "window": windowData(l.row.WindowStart, l.row.WindowEnd)}
	if l.row.Result.Valid {
		data["result"] = json.RawMessage(l.row.Result.String)
		var result any
		if json.Unmarshal([]byte(l.row.Result.String), &result) == nil {
			data["result"] = result
		}
	}
	b.own(RunEnded, sourceOf(l.row.Name), fmt.Sprintf("%s/%d", name, b.at.UnixMicro()), name, data)
}

// subscribe puts the starts of a workflow into the index, and has its files watched.
func (e *Engine) subscribe(w *workflow) (watch []func()) {
	for _, key := range w.subscribed {
		e.wanted.Remove(subscriber{workflow: w.row.ID, start: key})
	}
	forget := w.watched
	w.subscribed, w.watched = nil, nil
	if w.row.Removed.Valid {
		return e.watchStarts(w, forget)
	}
	for _, o := range w.current.definition.Outside {
		key := o.Key()
		for i, of := range o.Of {
			p := match.Pattern{Type: of, Source: o.Source, Subject: o.Subject}
			switch o.Kind {
			case definition.AwaitDataset:
				p = match.Pattern{Type: DatasetUpdated, Subject: of}
			case definition.AwaitWorkflow:
				p = match.Pattern{Type: RunEnded, Source: sourceOf(of)}
			case definition.AwaitFile:
				continue // they are looked at
			}
			place := key
			if i > 0 {
				place = fmt.Sprintf("%s\x00%d", key, i) // another pattern of the same start
			}
			e.wanted.Add(p, subscriber{workflow: w.row.ID, start: place})
			w.subscribed = append(w.subscribed, place)
		}
	}
	return e.watchStarts(w, forget)
}

// outside is the start of that key, and its place among those of the workflow.
func (w *workflow) outside(key string) (o definition.Outside, place int, ok bool) {
	key, _, _ = strings.Cut(key, "\x00")
	for i, o := range w.current.definition.Outside {
		if o.Key() == key {
			return o, i, true
		}
	}
	return o, 0, false
}

// gathering is what a start has got so far, while it waits for more.
type gathering struct {
	answers     []store.Answer
	events      []event
	first, last time.Time
}

// deliver gives an event to a start that it fits.
func (b *batch) deliver(ev event, s subscriber) {
	w := b.engine.byID[s.workflow]
	if w == nil {
		return
	}
	o, place, ok := w.outside(s.start)
	if !ok {
		return
	}
	answer := store.Answer{Event: ev.id, Workflow: number(w.row.ID), Start: o.Key(), At: store.At(b.at)}
	holds, err := w.holds(o, place, ev)
	switch {
	case err != nil:
		answer.State, answer.Reason = store.AnswerNone, "its where cannot be told: "+err.Error()
		b.AddAnswer(answer)
		return
	case !holds:
		return
	}
	answer.State = store.AnswerGathering
	if w.row.PausedAt.Valid {
		answer.State, answer.Reason = store.AnswerKept, "the workflow is paused"
	}
	var isNew bool
	if answer.ID, isNew = b.AddAnswer(answer); !isNew {
		return
	}
	g := w.gather(o.Key())
	g.add(answer, ev)
	if answer.State == store.AnswerGathering {
		b.gathered(w, o, place)
	}
}

func (w *workflow) gather(key string) *gathering {
	if w.gathering == nil {
		w.gathering = map[string]*gathering{}
	}
	g := w.gathering[key]
	if g == nil {
		g = &gathering{}
		w.gathering[key] = g
	}
	return g
}

func (g *gathering) add(answer store.Answer, ev event) {
	if len(g.answers) == 0 {
		g.first = answer.At.Time()
	}
	g.last = answer.At.Time()
	g.answers, g.events = append(g.answers, answer), append(g.events, ev)
}

// holds tells whether a start wants an event that fits its pattern.
func (w *workflow) holds(o definition.Outside, place int, ev event) (bool, error) {
	if o.Kind == definition.AwaitWorkflow {
		data, _ := ev.Data.(map[string]any)
		state, _ := data["state"].(string)
		if !slices.Contains(o.Expect, state) {
			return false, nil
		}
	}
	if o.Where == "" {
		return true, nil
	}
	return w.current.compiled.Outside[place].Where.Holds(w.startFacts([]event{ev}, calendar.Window{}))
}

// gathered makes the run of a start if it has got what it needs, or sets a timer for
// when it will have.
func (b *batch) gathered(w *workflow, o definition.Outside, place int) {
	g := w.gathering[o.Key()]
	if g == nil || len(g.events) == 0 || w.row.PausedAt.Valid {
		return
	}
	if o.Kind == definition.AwaitDataset && o.Join == "all" && !g.hasAll(o.Of) {
		return
	}
	ready := g.first
	if o.Collect > 0 {
		ready = g.first.Add(o.Collect.Duration())
	}
	if quiet := g.last.Add(o.Quiet.Duration()); quiet.After(ready) {
		ready = quiet
	}
	if ready.After(b.at) {
		b.engine.timers.add(timer{at: ready, workflow: w.row.ID, start: o.Key()})
		return
	}
	delete(w.gathering, o.Key())
	b.fire(w, o, place, g)
}

// hasAll tells whether there is an update of each data set.
func (g *gathering) hasAll(names []string) bool {
	for _, name := range names {
		if !slices.ContainsFunc(g.events, func(e event) bool { return e.Subject == name }) {
			return false
		}
	}
	return true
}

// fire makes the run of a start, or writes down why there is none.
func (b *batch) fire(w *workflow, o definition.Outside, place int, g *gathering) {
	settle := func(state, reason string, run int64) {
		for _, a := range g.answers {
			a.State, a.Reason = state, reason
			if run != 0 {
				a.Run = number(run)
			}
			b.SetAnswer(a)
		}
		b.tell(AllRuns)
	}
	window, updates := b.windowOf(g.events)
	params, err := w.startParams(o, place, g.events, window)
	if err != nil {
		settle(store.AnswerNone, "the params of its run cannot be told: "+err.Error(), 0)
		return
	}
	made := newRun{cause: "event", by: causedBy(o, g.events), params: params, window: window, events: g.events}
	if o.Kind == definition.AwaitWorkflow {
		made.cause = "workflow"
	}
	reason := b.followsAlready(w, g.events)
	if reason == "" {
		reason = b.notNow(w, made)
	}
	if reason != "" {
		settle(store.AnswerNone, reason, 0)
		return
	}
	made.older = w.laterIsDue(window, b.at)
	l := b.openRun(w, made)
	settle(store.AnswerRun, "", l.row.ID)
	for _, id := range updates {
		b.AddUse(store.Use{Update: id, Run: l.row.ID, Task: wholeRun, At: store.At(b.at)})
	}
	b.rests(l, wholeRun, g.events, o.Kind)
	b.beginQueued(w)
}

// wholeRun stands for a whole run where a task could stand.
const wholeRun = -1

// notNow tells why no run is made now by itself, "" if one is.
func (b *batch) notNow(w *workflow, made newRun) string {
	if going, full := w.full(); full {
		return going + " was still going, and if_running is skip"
	}
	if w.current.compiled == nil || w.current.compiled.OnlyIf == nil {
		return ""
	}
	facts := w.startFacts(made.events, made.window)
	facts.Params = made.params.Native(w.current.definition.Params)
	facts.RunCause, facts.RunNewest = made.cause, !made.older
	facts.New = func(dataset string) bool { return b.engine.newest[dataset] > w.seen[dataset] }
	holds, err := w.current.compiled.OnlyIf.Holds(facts)
	switch {
	case err != nil:
		return "the only_if of the workflow cannot be told: " + err.Error()
	case !holds:
		return "the only_if of the workflow is false: " + w.current.definition.OnlyIf
	}
	return ""
}

// causedBy says in a few words what a start was brought about by.
func causedBy(o definition.Outside, events []event) string {
	newest := events[len(events)-1]
	text := ""
	switch o.Kind {
	case definition.AwaitEvent:
		text = newest.Type
		if newest.Subject != "" {
			text += " of " + newest.Subject
		}
	case definition.AwaitFile:
		text = "file " + newest.Subject
	case definition.AwaitDataset:
		text = "data set " + strings.Join(o.Of, ", ")
		if o.Join != "all" {
			text = "data set " + newest.Subject
		}
	case definition.AwaitWorkflow:
		text = "after " + newest.Subject
	}
	if more := len(events) - 1; more > 0 && !(o.Kind == definition.AwaitDataset && o.Join == "all") {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

// startFacts are what is known when a start makes a run.
func (w *workflow) startFacts(events []event, window calendar.Window) *expr.Facts {
	facts := &expr.Facts{Start: window.Start, End: window.End, RunNumber: w.row.LastRun + 1, RunID: RunName(w.row.Name, w.row.LastRun+1), RunVersion: w.row.Version,
		RunNewest: true, Task: func(expr.Task) expr.Known { return expr.Known{} }, New: func(string) bool { return false }}
	if defaults, err := definition.Fill(w.current.definition.Params, nil); err == nil {
		facts.Params = defaults.Native(w.current.definition.Params)
	}
	marks := w.watermarksNow()
	params := make([]definition.Param, len(w.current.definition.Watermarks))
	for i, m := range w.current.definition.Watermarks {
		params[i] = m.Param()
	}
	facts.Watermarks = marks.Native(params)
	facts.Event, facts.Events = knownEvents(events)
	return facts
}

// knownEvents are events as expressions see them: the newest, and all.
func knownEvents(events []event) (newest map[string]any, all []any) {
	for _, one := range events {
		newest = one.Known()
		all = append(all, newest)
	}
	return newest, all
}

// startParams are the params of the run that a start makes.
func (w *workflow) startParams(o definition.Outside, place int, events []event, window calendar.Window) (definition.Values, error) {
	given := definition.Values{}
	if len(o.Params) > 0 {
		facts := w.startFacts(events, window)
		for name, template := range w.current.compiled.Outside[place].Params {
			if err := giveParam(given, w.current.definition, name, template, facts); err != nil {
				return nil, err
			}
		}
	}
	return definition.Fill(w.current.definition.Params, given)
}

// giveParam works out the value of a param that another one gives.
func giveParam(given definition.Values, to *definition.Workflow, name string, template *expr.Template, facts *expr.Facts) error {
	value, err := template.Value(facts)
	if err != nil {
		return fmt.Errorf("param %q: %w", name, err)
	}
	if value = plainValue(value); value == nil {
		return nil // as if it had not been given
	}
	given[name] = value
	param, known := to.Param(name)
	if text, isText := value.(string); known && isText {
		if given[name], err = param.Parse(text); err != nil {
			return fmt.Errorf("param %q: %w", name, err)
		}
	}
	return nil
}

package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"wiselantern/core/definition"
	"wiselantern/core/match"
	"wiselantern/service/dispatch"
	"wiselantern/service/signals"
	"wiselantern/service/store"
)

// Watcher looks at what is outside.
type Watcher interface {
	Watch(signals.Watch)
	Forget(signals.ID)
}

// watchOf is what is to be looked at for a wait or a start. Paths that are not
// absolute are those of the folder that the service was given for files.
func (e *Engine) watchOf(id signals.ID, a *definition.Awaited) signals.Watch {
	w := signals.Watch{ID: id, Kind: a.Kind, Settle: a.Settle.Duration(), MinSize: a.MinSize, Most: definition.MostFiles, Method: a.Method, Body: a.Body, Headers: a.Headers,
		Connection: a.Connection, With: a.With, Check: a.Check.Duration(), Cap: a.Cap.Duration(), Growth: a.Growth}
	switch a.Kind {
	case definition.AwaitFile:
		for _, glob := range a.Of {
			if !filepath.IsAbs(glob) {
				glob = filepath.Join(e.Files, glob)
			}
			w.Globs = append(w.Globs, glob)
		}
	case definition.AwaitHTTP:
		w.Address = a.Of[0]
	case definition.AwaitQuery:
		w.Statement = a.Of[0]
	}
	return w
}

// watchStarts has the files of a workflow's starts looked at, and those forgotten
// that are none of them any more. What it returns is done once all is recorded.
func (e *Engine) watchStarts(w *workflow, before []string) (do []func()) {
	for _, key := range before {
		do = append(do, func() { e.signals.Forget(signals.ID{Workflow: w.row.ID, Start: key}) })
	}
	if w.row.Removed.Valid || e.byHand {
		return do
	}
	for i := range w.current.definition.Outside {
		if o := &w.current.definition.Outside[i]; o.Kind == definition.AwaitFile {
			w.watched = append(w.watched, o.Key())
			watch := e.watchOf(signals.ID{Workflow: w.row.ID, Start: o.Key()}, &o.Awaited)
			do = append(do, func() { e.signals.Watch(watch) })
		}
	}
	return do
}

// Saw is told what was seen for a wait or a start, and makes of it what it is.
func (e *Engine) Saw(ctx context.Context, id signals.ID, s signals.Sight) (v signals.Verdict, err error) {
	err = e.submit(ctx, func(b *batch) error {
		if id.Workflow != 0 {
			v = b.sawForStart(id, s)
		} else {
			v = b.sawForWait(id, s)
		}
		return nil
	})
	return v, err
}

func (b *batch) sawForWait(id signals.ID, s signals.Sight) signals.Verdict {
	attempt := dispatch.AttemptID{Run: id.Run, Task: id.Task, Attempt: id.Attempt}
	p := b.engine.parked[attempt]
	if p == nil || p.things[id.Place].state != thingWaiting {
		return signals.Verdict{Done: true}
	}
	t := &p.things[id.Place]
	came, result, text, wrong := p.judge(id.Place, s)
	t.seen = text
	switch {
	case wrong != "":
		b.thingFailed(p, id.Place, wrong)
		return signals.Verdict{Done: true, Text: wrong}
	case came:
		b.thingCame(p, id.Place, result)
		if files, ok := result["paths"].([]any); ok {
			b.tellFiles(s.Files[:min(len(files), len(s.Files))])
		}
		return signals.Verdict{Done: true, Text: text}
	}
	return signals.Verdict{Text: text}
}

// judge tells whether what was seen is what is awaited.
func (p *parked) judge(place int, s signals.Sight) (came bool, result map[string]any, text, wrong string) {
	spec := &p.things[place].spec
	switch spec.Kind {
	case definition.AwaitFile:
		switch {
		case s.TooMany:
			return false, nil, "", fmt.Sprintf("%s means more than %d files; write a pattern that means fewer, or wait for one that says that all are there", strings.Join(spec.Of, ", "), definition.MostFiles)
		case s.Error != "":
			return false, nil, s.Error, ""
		}
		text = plural(len(s.Files), "file")
		if s.Settling > 0 {
			text += fmt.Sprintf(", and %d still growing or too small", s.Settling)
		}
		return len(s.Files) >= max(1, spec.Count), filesResult(s.Files), text, ""
	case definition.AwaitHTTP:
		text = fmt.Sprintf("%s %s: ", spec.Method, spec.Of[0])
		if s.Error != "" {
			return false, nil, text + s.Error, ""
		}
		text += fmt.Sprintf("%d %s in %s", s.Status, http.StatusText(s.Status), s.Took.Round(time.Millisecond))
		if !slices.ContainsFunc(spec.Status, func(c definition.ExitCodes) bool { return s.Status >= c.From && s.Status <= c.To }) {
			return false, nil, text, ""
		}
		result = map[string]any{"answer": s.Answer}
	case definition.AwaitQuery:
		text = "the query: "
		if s.Error != "" {
			return false, nil, text + s.Error, ""
		}
		text += fmt.Sprintf("%s in %s", plural(len(s.Rows), "row"), s.Took.Round(time.Millisecond))
		if len(s.Rows) > 0 && len(s.Rows) <= 3 {
			if shown, err := json.Marshal(plainValue(s.Rows)); err == nil && len(shown) < 300 {
				text += ": " + string(shown)
			}
		}
		if spec.Holds == "" && len(s.Rows) == 0 {
			return false, nil, text, ""
		}
		result = map[string]any{"rows": s.Rows}
	}
	if holds := p.compiled(place).Holds; holds != nil {
		facts, err := p.live.facts(p.id.Task)
		truth := false
		if err == nil {
			facts.Known = result
			truth, err = holds.Holds(facts)
		}
		if err != nil {
			return false, nil, text + "; its holds cannot be told: " + err.Error(), ""
		}
		if !truth {
			return false, nil, text + "; its holds is false", ""
		}
	}
	return true, plainValue(result).(map[string]any), text, ""
}

// filesResult is what a wait for files leaves.
func filesResult(files []signals.File) map[string]any {
	paths, sizes, times := []any{}, []any{}, []any{}
	for _, f := range files {
		paths, sizes, times = append(paths, f.Path), append(sizes, float64(f.Size)), append(times, f.Modified.Format(time.RFC3339Nano))
	}
	return map[string]any{"paths": paths, "sizes": sizes, "times": times, "count": float64(len(files))}
}

// fileEvent is the event that a file has arrived. The same file changed is another
// one.
func fileEvent(f signals.File) match.Event {
	return match.Event{ID: fmt.Sprintf("%s#%d@%d", f.Path, f.Size, f.Modified.UnixNano()), Source: "/files", Type: FileArrived, Subject: f.Path, Time: f.Modified,
		DataType: "application/json", Data: map[string]any{"path": f.Path, "name": filepath.Base(f.Path), "size": float64(f.Size), "modified": f.Modified.Format(time.RFC3339Nano)}}
}

func (b *batch) tellFiles(files []signals.File) {
	for _, f := range files {
		b.happened(fileEvent(f), "service", "")
	}
}

// sawForStart gives each file to the start that looks for it. One that it has got
// already changes nothing.
func (b *batch) sawForStart(id signals.ID, s signals.Sight) signals.Verdict {
	w := b.engine.byID[id.Workflow]
	if w == nil {
		return signals.Verdict{Done: true}
	}
	if s.Error != "" || s.TooMany {
		reason := s.Error
		if s.TooMany {
			reason = fmt.Sprintf("more than %d files; write a pattern that means fewer", definition.MostFiles)
		}
		b.startUnseen(w, id.Start, reason)
		return signals.Verdict{Text: reason}
	}
	b.startUnseen(w, id.Start, "")
	for _, f := range s.Files {
		key := fmt.Sprintf("%s#%d@%d", f.Path, f.Size, f.Modified.UnixNano())
		if w.got[id.Start][key] {
			continue
		}
		number, _ := b.happened(fileEvent(f), "service", "")
		b.deliver(event{fileEvent(f), number}, subscriber{workflow: w.row.ID, start: id.Start})
		if w.got == nil {
			w.got = map[string]map[string]bool{}
		}
		if w.got[id.Start] == nil || len(w.got[id.Start]) > 2*definition.MostFiles {
			w.got[id.Start] = map[string]bool{} // the records know them too
		}
		w.got[id.Start][key] = true
	}
	return signals.Verdict{}
}

// startUnseen keeps what is wrong with a start that looks for files, once.
func (b *batch) startUnseen(w *workflow, key, reason string) {
	if w.unseen[key] == reason {
		return
	}
	if w.unseen == nil {
		w.unseen = map[string]string{}
	}
	w.unseen[key] = reason
	if reason != "" {
		b.AddRefusal(store.Refusal{At: store.At(b.at), Via: "start of " + w.row.Name, Reason: key + ": " + reason})
	}
}

// Note keeps a line of what was seen for a wait, and when it is looked again.
func (e *Engine) Note(ctx context.Context, id signals.ID, at time.Time, text string, next time.Time) {
	if id.Workflow != 0 || text == "" {
		return
	}
	attempt := dispatch.AttemptID{Run: id.Run, Task: id.Task, Attempt: id.Attempt}
	if !next.IsZero() {
		text += "; looking again in " + definition.Length(max(time.Second, next.Sub(at).Round(time.Second))).String()
	}
	e.noteLater(attempt, at, text)
	_ = e.submit(ctx, func(b *batch) error { // for those who look at what is awaited; it is not recorded
		if p := e.parked[attempt]; p != nil {
			p.things[id.Place].next = next
		}
		return nil
	})
}

// noteLater writes a line into the log of a parked attempt, behind those before.
func (e *Engine) noteLater(id dispatch.AttemptID, at time.Time, text string) {
	e.notes.add(note{of: id, line: store.Line{At: at, Text: []byte(text)}})
}

func (e *Engine) forgetLog(id dispatch.AttemptID) { e.notes.add(note{of: id, over: true}) }

// Connection is the address of a connection.
func (e *Engine) Connection(name string) (string, bool) {
	all := e.connections.Load()
	if all == nil {
		return "", false
	}
	address, known := (*all)[name]
	return address, known
}

// SetConnection says what a connection is; with "" it is forgotten.
func (e *Engine) SetConnection(ctx context.Context, name, address string) error {
	if address != "" {
		if err := signals.CheckAddress(address); err != nil {
			return &RefusedError{err.Error()}
		}
	}
	return e.submit(ctx, func(b *batch) error {
		all := map[string]string{}
		if before := e.connections.Load(); before != nil {
			for other, its := range *before {
				all[other] = its
			}
		}
		if _, known := all[name]; address == "" && !known {
			return Unknown("connection", name, sortedNames(all))
		}
		if delete(all, name); address == "" {
			b.RemoveConnection(name)
		} else {
			all[name] = address
			b.SetConnection(store.Connection{Name: name, Address: address})
		}
		b.effects = append(b.effects, func() { e.connections.Store(&all) })
		return nil
	})
}

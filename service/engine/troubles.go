package engine

import (
	"context"
	"fmt"
	"strings"
	"time"

	"wiselantern/core/flow"
	"wiselantern/core/trouble"
	"wiselantern/service/store"
)

// wholeRunFailed stands where the place of a task does, for what is wrong with a
// run as a whole.
const wholeRunFailed = -1

func (w *workflow) keepTrouble(row store.Trouble) {
	if w.troubles == nil {
		w.troubles = map[string]*store.Trouble{}
	}
	w.troubles[row.Fingerprint] = &row
}

// troubleOf records that a task has failed for good, as one more of the trouble
// that says the same, or as a new one. A failure that the run may have is none;
// a task that failed because its items did is in theirs.
func (b *batch) troubleOf(l *live, task int, reason string) {
	node := l.node(task)
	if node.MayFail || l.run.Tasks[task].Items > 0 {
		return
	}
	b.addTrouble(l, task, node.Name, reason)
}

// troubleOfRun records that a run has failed of which no task has: it was over
// its deadline, say.
func (b *batch) troubleOfRun(l *live) {
	for i := range l.run.Tasks {
		if l.run.Tasks[i].State == flow.Failed && !l.node(i).MayFail {
			return
		}
	}
	reason := "the run failed"
	for i := range l.run.Tasks {
		if t := &l.run.Tasks[i]; t.State == flow.Stopped && t.Reason != "" {
			reason = t.Reason
			break
		}
	}
	b.addTrouble(l, wholeRunFailed, "", reason)
}

func (b *batch) addTrouble(l *live, task int, name, reason string) {
	w, at := l.workflow, store.At(b.at)
	fingerprint := trouble.Fingerprint(w.row.Name, name, reason)
	known := w.troubles[fingerprint]
	if known == nil {
		row := store.Trouble{Fingerprint: fingerprint, Workflow: w.row.ID, Task: name, Error: reason, Opened: at, Last: at, Count: 1}
		row.ID = b.AddTrouble(row)
		w.keepTrouble(row)
		known = w.troubles[fingerprint]
	} else {
		known.Error, known.Last = reason, at
		known.Count++
		b.SetTrouble(*known)
	}
	b.AddTroubleRun(store.TroubleRun{Trouble: known.ID, Run: l.row.ID, Task: task, At: at, WindowStart: l.row.WindowStart, WindowEnd: l.row.WindowEnd})
	b.tell(AllRuns)
}

// mend records that a run has succeeded: what it and earlier runs for its window
// were in trouble for is over. For a run without a window these are the earlier
// ones with the same params.
func (b *batch) mend(l *live) {
	for fingerprint, t := range l.workflow.troubles {
		if !b.MendTroubleRuns(t.ID, l.row, store.At(b.at)) {
			continue
		}
		b.tell(AllRuns)
		if b.TroubleIsOver(t.ID) {
			t.Closed = store.At(b.at)
			b.SetTrouble(*t)
			delete(l.workflow.troubles, fingerprint)
		}
	}
}

// The words that a person can say of a trouble.
const (
	TroubleTake  = "take"  // it is in this person's hands
	TroubleLeave = "leave" // and no longer
	TroubleNote  = "note"
	TroubleKnown = "known" // nobody need look at it until then
	TroubleClose = "close" // it is over, although its windows have not succeeded
)

// TroubleWord is what a person says of a trouble.
type TroubleWord struct {
	Word  string
	Text  string
	Until time.Time // of known
}

// SayOfTrouble records what a person says of an open trouble.
func (e *Engine) SayOfTrouble(ctx context.Context, row store.Trouble, said TroubleWord, person string) error {
	return e.submit(ctx, func(b *batch) error {
		w := e.byID[row.Workflow]
		t := w.troubles[row.Fingerprint]
		if t == nil || t.ID != row.ID {
			return &RefusedError{fmt.Sprintf("trouble %d is closed already; lantern failures lists the open ones", row.ID)}
		}
		text := strings.TrimSpace(said.Text)
		after := *t
		switch said.Word {
		case TroubleTake:
			after.TakenBy = person
		case TroubleLeave:
			after.TakenBy = ""
		case TroubleNote:
			if text == "" {
				return &RefusedError{"the note is empty; write what others should know"}
			}
		case TroubleKnown:
			if !said.Until.After(b.at) {
				return &RefusedError{fmt.Sprintf("%s is not in the future; say until when nobody need look at it", said.Until.Format(time.RFC3339))}
			}
			after.KnownUntil = store.At(said.Until)
		case TroubleClose:
			after.Closed, after.ClosedBy = store.At(b.at), person
		default:
			return &RefusedError{fmt.Sprintf("%q cannot be said of a trouble; say take, leave, note, known or close", said.Word)}
		}
		*t = after
		b.SetTrouble(*t)
		b.AddTroubleWord(store.TroubleWord{Trouble: t.ID, At: store.At(b.at), Person: person, Word: said.Word, Text: text})
		if t.Closed.Valid {
			delete(w.troubles, row.Fingerprint)
		}
		b.tell(AllRuns)
		return nil
	})
}

// closeTroubles closes the troubles of a workflow that is there no more.
func (b *batch) closeTroubles(w *workflow, by string) {
	for _, fingerprint := range sortedNames(w.troubles) {
		t := w.troubles[fingerprint]
		t.Closed, t.ClosedBy = store.At(b.at), by
		b.SetTrouble(*t)
		b.AddTroubleWord(store.TroubleWord{Trouble: t.ID, At: t.Closed, Person: by, Word: TroubleClose, Text: "the workflow was removed"})
	}
	w.troubles = nil
}

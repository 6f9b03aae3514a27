// Package engine is the one writer. It drains its inbox, steps every touched
// run in memory, records all of it in one transaction, and only then releases
// the effects and answers.
//
// It may import core, service/store and service/dispatch. What it keeps true:
// nothing outside sees or acts on a change that is not on disk. When a commit
// fails, its memory is thrown away and read again from the records, and those
// who asked are told.
package engine

import (
	"context"
	"errors"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"wiselantern/core/match"
	"wiselantern/service/dispatch"
	"wiselantern/service/signals"
	"wiselantern/service/store"
)

// Sender takes the work orders that the engine releases.
type Sender interface {
	Send(dispatch.Order)
	Cancel(dispatch.AttemptID)
	Knows(dispatch.AttemptID) bool
	Serves(queue string) bool // whether a worker takes from it
}

// Engine runs workflows. Its methods may be called from any goroutine.
type Engine struct {
	Hub   *Hub
	Files string // the folder of paths that are not absolute

	store   *store.Store
	sender  Sender
	signals Watcher
	notes   *notes
	now     func() time.Time
	byHand  bool // nothing comes due by itself
	log     *slog.Logger
	inbox   chan command
	done    chan struct{}
	fault   atomic.Pointer[Fault]
	pace    pace                     // how long commits take
	trial   func(point string) error // of simulations: what goes wrong at that point; nil outside of them

	connections atomic.Pointer[map[string]string] // addresses by name

	background sync.WaitGroup // what is done beside the loop
	beside     func(func())   // has something done there; a simulation does it in an order

	// The rest belongs to the loop.
	memory
}

// memory is everything that can be read again from the records.
type memory struct {
	workflows map[string]*workflow
	byID      map[int64]*workflow
	versions  map[versionKey]*version // those that were read, which are not made again when all is read again
	runs      map[int64]*live         // those that have not ended
	timers    timers
	ledger    ledger
	backfills map[int64]*backfilling // those that have not ended
	advancing map[int64]bool         // those that are to go on once the batch is recorded

	wanted  match.Index[subscriber]        // events, by starts and waits
	parked  map[dispatch.AttemptID]*parked // attempts that wait for something outside
	awaited map[string]runWaits            // runs, by the name of their workflow
	newest  map[string]int64               // by data set: the number of its newest update
	follow  []followOn                     // runs that are to be made again later
}

// Fault tells that records cannot be written, since when and why.
type Fault struct {
	Since time.Time
	Error string
}

// ErrStopped says that the engine has ended.
var ErrStopped = errors.New("the service is stopping")

// command is one item of the inbox. do checks first and then writes: if it
// returns an error it has changed nothing.
type command struct {
	do    func(*batch) error
	reads bool // it writes nothing, so that it is answered also when nothing can be written
	reply chan error
}

// mostInBatch bounds how many commands share a commit.
const mostInBatch = 512

// Options of an engine.
type Options struct {
	Now    func() time.Time // the clock
	Log    *slog.Logger
	ByHand bool // nothing comes due by itself
}

// New reads the records and makes an engine that is not yet running. The sender
// may be set until Run is called.
func New(ctx context.Context, s *store.Store, o Options) (*Engine, error) {
	e := &Engine{Hub: newHub(), store: s, now: o.Now, log: o.Log, byHand: o.ByHand, inbox: make(chan command, mostInBatch), done: make(chan struct{}),
		notes: newNotes(), signals: nothingWatches{}}
	e.beside = e.background.Go
	return e, e.load(ctx)
}

// SetSender says where work orders go.
func (e *Engine) SetSender(s Sender) { e.sender = s }

// SetWatcher says who looks at what is outside.
func (e *Engine) SetWatcher(w Watcher) { e.signals = w }

// nothingWatches is there until somebody does.
type nothingWatches struct{}

func (nothingWatches) Watch(signals.Watch) {}
func (nothingWatches) Forget(signals.ID)   {}

// Fault is what keeps the engine from recording, nil if nothing does.
func (e *Engine) Fault() *Fault { return e.fault.Load() }

// Run is the engine's loop; it returns when ctx is done and what had come in
// until then is recorded.
func (e *Engine) Run(ctx context.Context) {
	defer e.background.Wait()
	notesContext, stopNotes := context.WithCancel(context.Background())
	e.background.Go(func() { e.writeNotes(notesContext) })
	defer stopNotes()
	defer close(e.done)
	alarm := time.NewTimer(0)
	defer alarm.Stop()
	for {
		var commands []command
		select {
		case c := <-e.inbox:
			commands = append(commands, c)
		case <-alarm.C:
		case <-ctx.Done():
			for c, ok := e.next(); ok; c, ok = e.next() {
				commands = append(commands, c)
			}
			e.process(commands)
			return
		}
		for len(commands) < mostInBatch {
			c, ok := e.next()
			if !ok {
				break
			}
			commands = append(commands, c)
		}
		if !e.process(commands) {
			return
		}
		alarm.Reset(e.untilNextTimer())
	}
}

func (e *Engine) next() (command, bool) {
	select {
	case c := <-e.inbox:
		return c, true
	default:
		return command{}, false
	}
}

// longestSleep bounds how late a change of the machine's clock is noticed.
const longestSleep = 20 * time.Second

func (e *Engine) untilNextTimer() time.Duration {
	if e.fault.Load() != nil {
		return time.Second
	}
	at, ok := e.timers.next()
	if !ok {
		return longestSleep
	}
	return min(max(0, at.Sub(e.now())), longestSleep)
}

// errNotDone stands for the answer of a command that was not come to.
var errNotDone = errors.New("not done")

// errCut is what a trial says to end the engine where it stands, as SIGKILL does.
var errCut = errors.New("cut off")

// process records the commands and the timers that are due in one transaction. It is
// false if the engine was cut off.
func (e *Engine) process(commands []command) bool {
	answers := make([]error, len(commands))
	for i := range answers {
		answers[i] = errNotDone
	}
	faulty := e.fault.Load() != nil
	err := e.commit(commands, answers)
	if errors.Is(err, errCut) {
		return false
	}
	if err != nil {
		e.failed(err)
	}
	for i, c := range commands {
		if err != nil && (!c.reads || !faulty || errors.Is(answers[i], errNotDone)) {
			answers[i] = err
		}
		c.reply <- answers[i]
	}
	return true
}

// try asks a simulation what goes wrong at a point.
func (e *Engine) try(point string) error {
	if e.trial == nil {
		return nil
	}
	return e.trial(point)
}

func (e *Engine) commit(commands []command, answers []error) error {
	if e.fault.Load() != nil { // memory may be behind the records, or not there
		if err := e.load(context.Background()); err != nil {
			return err
		}
	}
	b := &batch{engine: e, Writer: e.store.Writer, at: e.now()}
	due := e.timers.due(b.at)
	if len(commands) == 0 && len(due) == 0 && e.fault.Load() == nil {
		return nil
	}
	e.pace.begins()
	b.Begin() // waits while another process writes
	waited := e.pace.ends(0)
	if e.fault.Load() != nil {
		b.Probe()
	}
	if e.fault.Load() != nil { // what only reads is answered of the records, before anything else is tried
		for i, c := range commands {
			if c.reads {
				answers[i] = c.do(b)
			}
		}
	}
	for i, c := range commands {
		if !c.reads || e.fault.Load() == nil {
			answers[i] = c.do(b)
			b.settle()
		}
	}
	for _, t := range due {
		b.timerDue(t)
	}
	for b.sendWaiting(); len(b.next) > 0; b.sendWaiting() {
		b.settle()
	}
	b.flush()
	if err := e.try("before the commit"); err != nil {
		b.Rollback()
		return err
	}
	e.pace.begins()
	err := b.Commit()
	e.pace.ends(waited)
	if err != nil {
		return err
	}
	if err := e.try("after the commit"); err != nil {
		return err
	}
	if was := e.fault.Swap(nil); was != nil {
		e.log.Info("records can be written again", "since", was.Since)
		for _, id := range slices.Sorted(maps.Keys(e.backfills)) { // one that was to go on may not have been able to
			e.goOn(id)
		}
	}
	for i, release := range b.effects {
		release()
		if i == 0 {
			if err := e.try("between two effects"); err != nil {
				return err
			}
		}
	}
	if b.told != nil {
		e.Hub.tell(b.told)
	}
	return nil
}

// Slowest is how long the slowest commit of late took, or has taken if it goes on.
func (e *Engine) Slowest() time.Duration { return e.pace.slowest() }

func (e *Engine) failed(err error) {
	if e.fault.Load() == nil {
		e.log.Error("records cannot be written; free space in the data folder or make it writable. Trying again every second", "error", err)
		e.fault.Store(&Fault{Since: e.now(), Error: err.Error()})
	}
}

// submit has a command done and waits until it is recorded.
func (e *Engine) submit(ctx context.Context, do func(*batch) error) error {
	return e.say(ctx, command{do: do, reply: make(chan error, 1)})
}

// ask has a command done that only reads the memory.
func (e *Engine) ask(ctx context.Context, do func(*batch) error) error {
	return e.say(ctx, command{do: do, reads: true, reply: make(chan error, 1)})
}

func (e *Engine) say(ctx context.Context, c command) error {
	select {
	case e.inbox <- c:
	case <-e.done:
		return ErrStopped
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case err := <-c.reply:
		return err
	case <-e.done:
		select {
		case err := <-c.reply:
			return err
		default:
			return ErrStopped
		}
	}
}

// Record has something else written by the one writer, within its next commit.
func (e *Engine) Record(ctx context.Context, write func(*store.Writer)) error {
	return e.submit(ctx, func(b *batch) error {
		write(b.Writer)
		return nil
	})
}

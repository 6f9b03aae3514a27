// Package signals looks at what is outside for those who wait: files, addresses,
// queries.
//
// It may import core and libraries. What it keeps true: a watch holds no
// goroutine and no process of its own; a few workers look at all of them, each when
// its time has come or when the system tells of a change; what was seen is handed
// over to be judged, and is asked again until it is said to be enough.
package signals

import (
	"container/heap"
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"
)

// ID names a watch: what one parked attempt waits for, or one start.
type ID struct {
	Run           int64
	Task, Attempt int
	Place         int
	Workflow      int64 // of a start, else 0
	Start         string
}

// The kinds of watches.
const (
	Files = "file"
	HTTP  = "http"
	Query = "query"
)

// Watch is what is to be looked at.
type Watch struct {
	ID   ID
	Kind string

	Globs   []string // of files, absolute
	Settle  time.Duration
	MinSize int64
	Most    int // files

	Method, Address, Body string
	Headers               map[string]string

	Connection, Statement string
	With                  []string

	Check, Cap time.Duration
	Growth     float64
}

// File is a file that has settled.
type File struct {
	Path     string
	Size     int64
	Modified time.Time
}

// Sight is what was seen.
type Sight struct {
	At       time.Time
	Took     time.Duration
	Error    string // why nothing could be seen
	TooMany  bool   // more files than may be found
	Files    []File // that have settled
	Settling int    // files that are still growing, or too small
	Status   int
	Answer   map[string]any // of an address: status, headers, body
	Rows     []any
}

// Verdict is what is made of a sight.
type Verdict struct {
	Done bool   // it need not be looked at again
	Text string // what was seen, in a few words
}

// Judge is told what was seen. It is called by the workers, by several at once.
type Judge interface {
	Saw(context.Context, ID, Sight) (Verdict, error)
	// Note keeps a line of what was seen, and when it is looked again.
	Note(ctx context.Context, id ID, at time.Time, text string, next time.Time)
	// Connection is the address of a connection.
	Connection(name string) (address string, known bool)
}

// Options shape the room.
type Options struct {
	Log *slog.Logger
}

// How many look at the same time. Files have their own, so that addresses that never
// answer do not keep them waiting.
const (
	fileWorkers  = 2
	otherWorkers = 16
)

// Signals looks. Watch and Forget may be called from any goroutine and return at
// once.
type Signals struct {
	judge  Judge
	log    *slog.Logger
	files  lane
	others lane

	mu      sync.Mutex // guards what follows, and the queues of the lanes
	watches map[ID]*watch
	folders folders
	queries connections
}

// lane is a queue of watches, with those who look at them.
type lane struct {
	due     queue
	wake    chan struct{}
	workers int
}

func newLane(workers int) lane { return lane{wake: make(chan struct{}, 1), workers: workers} }

type watch struct {
	Watch
	at      time.Time // when it is looked at next
	pause   time.Duration
	place   int  // in the queue; -1 while it is not there
	busy    bool // a worker looks at it
	again   bool // something changed while it was looked at
	gone    bool
	seen    map[string]resting // of files
	folders []string           // that the system tells of, for it
}

// New makes the room; Run has it work.
func New(judge Judge, o Options) *Signals {
	s := &Signals{judge: judge, log: o.Log, files: newLane(fileWorkers), others: newLane(otherWorkers), watches: map[ID]*watch{}}
	s.folders.init()
	return s
}

// Watch has something looked at, at once and then again and again.
func (s *Signals) Watch(w Watch) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if old := s.watches[w.ID]; old != nil {
		s.drop(old)
	}
	one := &watch{Watch: w, at: time.Now(), pause: w.Check, place: -1}
	s.watches[w.ID] = one
	l := s.laneOf(one)
	heap.Push(&l.due, one)
	l.stir()
}

func (s *Signals) laneOf(w *watch) *lane {
	if w.Kind == Files {
		return &s.files
	}
	return &s.others
}

// Forget ends a watch; it does nothing if there is none.
func (s *Signals) Forget(id ID) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if w := s.watches[id]; w != nil {
		s.drop(w)
	}
}

// drop takes a watch out; the lock is held.
func (s *Signals) drop(w *watch) {
	w.gone = true
	delete(s.watches, w.ID)
	if w.place >= 0 {
		heap.Remove(&s.laneOf(w).due, w.place)
	}
	s.folders.leave(w)
}

// Len is how many watches there are.
func (s *Signals) Len() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.watches)
}

// stir has the loop look at its queue anew.
func (l *lane) stir() {
	select {
	case l.wake <- struct{}{}:
	default:
	}
}

// Run looks until ctx is done.
func (s *Signals) Run(ctx context.Context) {
	var group sync.WaitGroup
	for _, l := range []*lane{&s.files, &s.others} {
		group.Go(func() { s.work(ctx, l) })
	}
	notify, err := fsnotify.NewWatcher()
	if err != nil {
		s.log.Warn("the system does not tell of files; they are looked at every check alone", "error", err)
	} else {
		defer notify.Close()
		s.mu.Lock()
		s.folders.notify = notify
		s.mu.Unlock()
		s.lookAtAll()
		group.Go(func() { s.hear(ctx, notify) })
	}
	group.Wait()
	s.queries.close()
}

// hear takes what the system tells of files.
func (s *Signals) hear(ctx context.Context, notify *fsnotify.Watcher) {
	for {
		select {
		case change := <-notify.Events:
			s.changed(change)
		case err := <-notify.Errors:
			if err != nil { // some changes were not told: everything is looked at
				s.log.Warn("the system has lost changes of files; all are looked at", "error", err)
				s.lookAtAll()
			}
		case <-ctx.Done():
			return
		}
	}
}

// work has the watches of a lane looked at, each when its time has come.
func (s *Signals) work(ctx context.Context, l *lane) {
	var group sync.WaitGroup
	work := make(chan *watch)
	for range l.workers {
		group.Go(func() {
			for w := range work {
				s.look(ctx, w)
			}
		})
	}
	alarm := time.NewTimer(0)
	defer func() {
		alarm.Stop()
		close(work)
		group.Wait()
	}()
	for {
		w, pause := s.next(l)
		if w != nil {
			select {
			case work <- w:
				continue
			case <-ctx.Done():
				return
			}
		}
		alarm.Reset(pause)
		select {
		case <-alarm.C:
		case <-l.wake:
		case <-ctx.Done():
			return
		}
	}
}

// next takes out the watch whose time has come, or tells how long there is none.
func (s *Signals) next(l *lane) (*watch, time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(l.due) == 0 {
		return nil, time.Hour
	}
	if pause := time.Until(l.due[0].at); pause > 0 {
		return nil, pause
	}
	w := heap.Pop(&l.due).(*watch)
	w.busy = true
	return w, 0
}

// look looks once, and has it looked at again if that is not enough.
func (s *Signals) look(ctx context.Context, w *watch) {
	began := time.Now()
	sight := s.see(ctx, w)
	if ctx.Err() != nil {
		return
	}
	sight.At, sight.Took = began, time.Since(began)
	verdict, err := s.judge.Saw(ctx, w.ID, sight)
	if err != nil {
		if ctx.Err() != nil {
			return
		}
		verdict.Text = "what was seen could not be recorded: " + err.Error()
	}
	s.mu.Lock()
	w.busy = false
	if w.gone || verdict.Done {
		if !w.gone {
			s.drop(w)
		}
		s.mu.Unlock()
		s.judge.Note(ctx, w.ID, began, verdict.Text, time.Time{})
		return
	}
	w.at = began.Add(w.pause)
	if rest := w.restUntil(sight, began); !rest.IsZero() && rest.Before(w.at) {
		w.at = rest
	}
	if w.again {
		w.again, w.at = false, began.Add(soon)
	}
	if w.Growth > 1 {
		w.pause = min(time.Duration(float64(w.pause)*w.Growth), max(w.Cap, w.Check))
	}
	next := w.at
	l := s.laneOf(w)
	heap.Push(&l.due, w)
	s.mu.Unlock()
	l.stir()
	s.judge.Note(ctx, w.ID, began, verdict.Text, next)
}

// soon is how long changes of files are gathered before they are looked at.
const soon = 100 * time.Millisecond

// see does the looking; nothing is locked.
func (s *Signals) see(ctx context.Context, w *watch) (sight Sight) {
	defer func() {
		if problem := recover(); problem != nil { // of a driver, over what came from outside
			s.log.Error("looking has failed", "what", w.ID, "problem", problem)
			sight = Sight{Error: fmt.Sprint(problem)}
		}
	}()
	switch w.Kind {
	case Files:
		return s.seeFiles(w)
	case HTTP:
		return seeAddress(ctx, &w.Watch)
	}
	return s.seeRows(ctx, &w.Watch)
}

// lookAtAll has all files looked at.
func (s *Signals) lookAtAll() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, w := range s.watches {
		if w.Kind == Files {
			s.hasten(w, time.Now())
		}
	}
}

// hasten has a watch looked at by then; the lock is held.
func (s *Signals) hasten(w *watch, by time.Time) {
	switch {
	case w.busy:
		w.again = true
	case w.place >= 0 && by.Before(w.at):
		w.at = by
		l := s.laneOf(w)
		heap.Fix(&l.due, w.place)
		l.stir()
	}
}

// queue is a heap, the earliest first.
type queue []*watch

func (q queue) Len() int           { return len(q) }
func (q queue) Less(i, j int) bool { return q[i].at.Before(q[j].at) }
func (q queue) Swap(i, j int) {
	q[i], q[j] = q[j], q[i]
	q[i].place, q[j].place = i, j
}
func (q *queue) Push(x any) {
	w := x.(*watch)
	w.place = len(*q)
	*q = append(*q, w)
}
func (q *queue) Pop() any {
	last := len(*q) - 1
	w := (*q)[last]
	(*q)[last] = nil
	*q = (*q)[:last]
	w.place = -1
	return w
}

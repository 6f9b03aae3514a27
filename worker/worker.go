// Package worker takes work orders and executes them, each in its own process
// group and its own folder, and sends back what it prints and how it ended.
//
// It may import service/dispatch, parcel and its kinds. What it keeps true: a
// report stays on disk until it is acknowledged; a process of an attempt that
// was given up is killed before the attempt is reported lost.
package worker

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"time"

	"wiselantern/parcel"
	"wiselantern/service/dispatch"
	_ "wiselantern/worker/kinds/exec"  // the kind exec
	_ "wiselantern/worker/kinds/shell" // the kind shell
)

// Exchange is where a worker takes orders and says what became of them. A
// method that returns an error has not been heard, and is called again.
type Exchange interface {
	Take(context.Context) (dispatch.Order, <-chan struct{}, error)
	Started(dispatch.Started) // without waiting, and until it is heard
	Log(context.Context, dispatch.Log) error
	Ended(context.Context, dispatch.Ended) error
	Rest(reason string) // it gives out no orders for a while: the machine cannot execute them
}

// Options shape a worker.
type Options struct {
	Name  string // in records
	Dir   string // an absolute path; it holds the unpacked parcels, and the homes of its workers
	Home  string // of this worker alone, in Dir: its journal and the work folders are there
	Slots int    // attempts at once, at least 1
	Fetch func(ctx context.Context, name string) (io.ReadCloser, error)
	Log   *slog.Logger
}

// Worker executes work orders.
type Worker struct {
	Options
	exchange Exchange
	parcels  sync.Mutex // held while one is unpacked
	setups   setups
	folders  folders
	noInput  *os.File // what programs read
	results  *os.File // the folder of results
	journal  *journal
	slots    sync.WaitGroup
	reports  sync.WaitGroup  // under way
	stopping chan struct{}   // closed when attempts are to be given up
	saying   context.Context // done when nothing more is said
	hush     context.CancelFunc
	once     sync.Once
}

// New makes a worker that has not begun, in its home.
func New(x Exchange, o Options) (*Worker, error) {
	if err := os.MkdirAll(filepath.Join(o.Home, "results"), 0o700); err != nil {
		return nil, fmt.Errorf("the folder of results cannot be made: %w", err)
	}
	noInput, err := os.Open(os.DevNull)
	if err != nil {
		return nil, err
	}
	results, err := os.Open(filepath.Join(o.Home, "results"))
	if err != nil {
		noInput.Close()
		return nil, fmt.Errorf("the folder of results cannot be opened: %w", err)
	}
	j, err := openJournal(o.Home)
	if err != nil {
		noInput.Close()
		results.Close()
		return nil, fmt.Errorf("the worker's journal cannot be opened: %w", err)
	}
	saying, hush := context.WithCancel(context.Background())
	return &Worker{Options: o, exchange: x, saying: saying, hush: hush, stopping: make(chan struct{}), folders: folders{dir: filepath.Join(o.Home, "work")}, noInput: noInput, results: results, journal: j}, nil
}

// The times that the processes of an attempt are given.
const (
	graceOfTask = 10 * time.Second // from SIGTERM to SIGKILL
	graceOfStop = 2 * time.Second  // the same, when the worker itself is stopping
	lastReport  = 2 * time.Second  // for a report to be acknowledged, when the worker is stopping; it stays on disk
	lastWords   = 2 * time.Second  // for output, when the process is gone and something it started still holds it
)

// Run takes orders until none are given out any more or ctx is done, and
// returns when those that it took have ended and their reports are acknowledged.
func (w *Worker) Run(ctx context.Context) {
	for range w.Slots {
		w.slots.Go(func() {
			for {
				order, cancelled, err := w.exchange.Take(ctx)
				if err != nil {
					return
				}
				w.handle(order, cancelled)
			}
		})
	}
	w.slots.Wait()
	w.reports.Wait()
}

// Close closes what it has open, once Run has returned.
func (w *Worker) Close() error {
	return errors.Join(w.noInput.Close(), w.results.Close(), w.journal.close())
}

// Speak says to whom it speaks, where that was not known when it was made.
func (w *Worker) Speak(x Exchange) { w.exchange = x }

// Stopping is closed when attempts are to be given up.
func (w *Worker) Stopping() <-chan struct{} { return w.stopping }

// GiveUp ends all attempts that are still being executed; they are reported as
// lost, so that they are made again.
func (w *Worker) GiveUp() {
	w.once.Do(func() {
		close(w.stopping)
		time.AfterFunc(graceOfStop+lastWords+lastReport, w.hush)
	})
}

func (w *Worker) handle(o dispatch.Order, cancelled <-chan struct{}) {
	a := &attempt{worker: w, order: o, cancelled: cancelled, started: time.Now()}
	report := a.execute()
	if !a.resultless {
		_ = os.Remove(a.resultFile())
	}
	report.AttemptID, report.Worker, report.Started, report.At = o.AttemptID, w.Name, a.started, time.Now()
	if err := w.journal.end(report); err != nil {
		w.Log.Warn("a report cannot be kept on disk until it is acknowledged", "attempt", report.AttemptID.String(), "error", err)
	}
	w.reports.Go(func() { w.deliver(report, w.journal) })
	if a.folder == "" {
		return
	}
	if err := w.folders.leave(a.folder, !a.shared); err != nil {
		w.Log.Warn("the work folder of an attempt cannot be removed; remove it by hand", "folder", a.folder, "error", err)
	}
}

// again says something until it is heard, with growing pauses.
func (w *Worker) again(what string, say func(context.Context) error) {
	pause := 50 * time.Millisecond
	for {
		err := say(w.saying)
		if err == nil {
			return
		}
		w.Log.Warn("not acknowledged, trying again", "what", what, "error", err)
		select {
		case <-time.After(pause):
		case <-w.stopping:
			return // it is on disk, and said at the next start
		}
		pause = min(2*pause, 5*time.Second)
	}
}

// parcelDir is the folder of the unpacked parcel, which is fetched if it is not
// there yet.
func (w *Worker) parcelDir(name string) (string, error) {
	dir := filepath.Join(w.Dir, "parcels", name)
	w.parcels.Lock()
	defer w.parcels.Unlock()
	if _, err := os.Stat(dir); err == nil {
		return dir, nil
	}
	archive, err := w.Fetch(context.Background(), name)
	if err != nil {
		return "", fmt.Errorf("fetch parcel %.12s: %w", name, err)
	}
	defer archive.Close()
	return dir, parcel.Unpack(archive, name, dir)
}

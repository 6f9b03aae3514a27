package api

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/gofiber/fiber/v2"

	"wiselantern/client"
	"wiselantern/service/archive"
	"wiselantern/service/engine"
)

// The streams are server-sent events (HTML Living Standard, 9.2). They stand
// outside of huma, whose own helper does not flush on this adapter.

const (
	gatherChanges = 50 * time.Millisecond // a burst of commits is told at once
	keepAlive     = 15 * time.Second      // a comment, so that a gone reader is noticed
)

func (a *API) streamRoutes() {
	a.app.Get("/api/stream", a.streamChanges)
	a.app.Get("/api/runs/:run/log/stream", a.streamLog)
	a.app.Get("/api/runs/:run/log/raw", a.rawLog)
	a.app.Get("/api/backup", a.backup)
}

// events writes server-sent events to a reader.
type events struct {
	out *bufio.Writer
	err error
}

// send writes one event. The id is left out if it is 0.
func (e *events) send(id int64, name string, body any) {
	if e.err != nil {
		return
	}
	text, err := json.Marshal(body)
	if err != nil {
		e.err = err
		return
	}
	if id > 0 {
		fmt.Fprintf(e.out, "id: %d\n", id)
	}
	_, e.err = fmt.Fprintf(e.out, "event: %s\ndata: %s\n\n", name, text)
}

func (e *events) flush() bool {
	if e.err == nil {
		e.err = e.out.Flush()
	}
	return e.err == nil
}

func (e *events) comment(text string) bool {
	fmt.Fprintf(e.out, ": %s\n\n", text)
	return e.flush()
}

// streamChanges tells every change of state from now on, or from behind the
// Last-Event-ID, as events `change`; with ?run= only those of one run. Without
// it, an event `workflows` tells that a workflow was applied, paused or resumed.
// The first event is `ready`: whoever reads the state after it misses nothing.
func (a *API) streamChanges(c *fiber.Ctx) error {
	ctx := c.UserContext()
	run := engine.AllRuns
	if id := c.Query("run"); id != "" {
		row, err := a.findRun(ctx, id)
		if err != nil {
			return err
		}
		run = row.ID
	}
	last, err := a.Store.LastTransition(ctx)
	if err != nil {
		return err
	}
	if text := c.Get("Last-Event-ID", c.Query("after")); text != "" {
		if last, err = strconv.ParseInt(text, 10, 64); err != nil {
			return fiber.NewError(http.StatusUnprocessableEntity, "the Last-Event-ID is not the id of a change")
		}
	}
	return a.stream(c, func(ctx context.Context, out *events) {
		for woken := false; ; woken = true {
			changed := a.Engine.Hub.Changes(run)
			changes, err := a.changes(ctx, last, run, 1000)
			if err != nil {
				a.Log.Warn("a live stream ended", "error", err)
				return
			}
			for _, change := range changes {
				out.send(change.ID, "change", change)
				last = change.ID
			}
			switch {
			case !woken:
				out.send(0, "ready", struct{}{})
			case len(changes) == 0 && run == engine.AllRuns:
				out.send(0, "workflows", struct{}{})
			}
			if !out.flush() {
				return
			}
			if len(changes) == 1000 {
				continue
			}
			if !a.wait(changed, out) {
				return
			}
			time.Sleep(gatherChanges)
		}
	})
}

// wait waits for the event and keeps the connection alive meanwhile. It is
// false when the stream is to end.
func (a *API) wait(event <-chan struct{}, out *events) bool {
	for {
		alive := time.NewTimer(keepAlive)
		select {
		case <-event:
			alive.Stop()
			return true
		case <-a.closed:
			alive.Stop()
			return false
		case <-alive.C:
			if !out.comment("still here") {
				return false
			}
		}
	}
}

func (a *API) stream(c *fiber.Ctx, write func(context.Context, *events)) error {
	c.Set(fiber.HeaderContentType, "text/event-stream")
	c.Set("X-Accel-Buffering", "no")
	c.Context().SetBodyStreamWriter(func(w *bufio.Writer) {
		// The request's own context is used up by now.
		out := &events{out: w}
		if out.comment("wise lantern") {
			write(context.Background(), out)
		}
	})
	return nil
}

func logQuery(c *fiber.Ctx) LogOf {
	return LogOf{RunPath: RunPath{c.Params("run")}, Task: c.Query("task"), Attempt: c.QueryInt("attempt")}
}

// streamLog tells the lines of an attempt as they come: events `lines`, and
// `end` when the attempt has ended and all is told. ?from= is the first line.
func (a *API) streamLog(c *fiber.Ctx) error {
	query := logQuery(c)
	of, _, err := a.findLog(c.UserContext(), query)
	if err != nil {
		return err
	}
	query.Attempt = of.Attempt
	from := max(0, c.QueryInt("from"))
	if id, err := strconv.Atoi(c.Get("Last-Event-ID")); err == nil && id > from {
		from = id
	}
	return a.stream(c, func(ctx context.Context, out *events) {
		for {
			grows, changed := a.Store.Logs.Grows(of), a.Engine.Hub.Changes(of.Run)
			_, open, err := a.findLog(ctx, query) // before the lines: none comes after the end
			var lines []client.Line
			if err == nil {
				lines, err = a.lines(ctx, of, from, 2000)
			}
			if err != nil {
				a.Log.Warn("a live log ended", "error", err)
				return
			}
			if len(lines) > 0 {
				from += len(lines)
				out.send(int64(from), "lines", lines)
			} else if !open {
				out.send(0, "end", struct{}{})
				out.flush()
				return
			}
			if !out.flush() {
				return
			}
			if len(lines) > 0 {
				continue
			}
			either := make(chan struct{})
			stop := make(chan struct{})
			go func() {
				defer close(either)
				select {
				case <-grows:
				case <-changed:
				case <-stop:
				}
			}()
			again := a.wait(either, out)
			close(stop)
			if !again {
				return
			}
		}
	})
}

// rawLog gives what an attempt printed, byte for byte, both streams in the order
// in which they were read; ?stream=out or err gives one.
func (a *API) rawLog(c *fiber.Ctx) error {
	of, _, err := a.findLog(c.UserContext(), logQuery(c))
	if err != nil {
		return err
	}
	only := c.Query("stream")
	c.Set(fiber.HeaderContentType, "application/octet-stream")
	c.Set(fiber.HeaderContentDisposition, fmt.Sprintf(`attachment; filename="%d-%d-%d.log"`, of.Run, of.Task, of.Attempt))
	c.Context().SetBodyStreamWriter(func(w *bufio.Writer) {
		for from := 0; ; {
			lines, err := a.Store.Logs.Lines(context.Background(), of, from, 5000)
			if err != nil || len(lines) == 0 {
				return
			}
			from += len(lines)
			for _, l := range lines {
				if only == "out" && l.Error || only == "err" && !l.Error {
					continue
				}
				w.Write(l.Text)
				if !l.Joined {
					w.WriteByte('\n')
				}
			}
			if w.Flush() != nil {
				return
			}
		}
	})
	return nil
}

// backup gives everything that the service has, as one archive. One that could not
// be made is cut off, by which its reader knows.
func (a *API) backup(c *fiber.Ctx) error {
	c.Set(fiber.HeaderContentType, "application/zstd")
	c.Set(fiber.HeaderContentDisposition, `attachment; filename="lantern.tar.zst"`)
	c.Context().SetBodyStreamWriter(func(w *bufio.Writer) {
		if err := archive.Write(context.Background(), a.Store, w); err != nil {
			a.Log.Error("a backup was cut off", "error", err)
			return
		}
		_ = w.Flush() // a reader that is gone has what it has
	})
	return nil
}

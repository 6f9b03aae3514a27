package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
)

// event is one server-sent event (HTML Living Standard, 9.2.6).
type event struct {
	name string
	data []byte
}

// events reads server-sent events until the stream ends or do returns an error.
func (c *Client) events(ctx context.Context, path string, do func(event) error) error {
	response, err := c.send(ctx, http.MethodGet, path, "", nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	lines := bufio.NewReaderSize(response.Body, 64<<10)
	var current event
	for {
		line, err := lines.ReadString('\n')
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return &Unreachable{c.server, err}
		}
		line = strings.TrimRight(line, "\r\n")
		field, value, _ := strings.Cut(line, ":")
		value = strings.TrimPrefix(value, " ")
		switch {
		case line == "":
			if current.name != "" {
				if err := do(current); err != nil {
					return err
				}
			}
			current = event{}
		case field == "event":
			current.name = value
		case field == "data":
			current.data = append(current.data, value...)
		}
	}
}

// Follow tells every change of state behind the one with the id after, and then
// as they come, until do returns an error, which it returns; io.EOF ends it
// without one. With run "" it follows all runs. An id under 0 means from now on.
func (c *Client) Follow(ctx context.Context, run string, after int64, do func(Change) error) error {
	query := url.Values{}
	if run != "" {
		query.Set("run", run)
	}
	if after >= 0 {
		query.Set("after", strconv.FormatInt(after, 10))
	}
	err := c.events(ctx, "/api/stream?"+query.Encode(), func(e event) error {
		if e.name != "change" {
			return nil
		}
		var change Change
		if err := json.Unmarshal(e.data, &change); err != nil {
			return err
		}
		return do(change)
	})
	if errors.Is(err, io.EOF) && !errors.As(err, new(*Unreachable)) {
		return nil
	}
	return err
}

// FollowRun tells every change of a run from its first, and then as they come,
// until the run has ended. A run that was made again has ended more than once:
// it is followed to its last end. do may be nil.
func (c *Client) FollowRun(ctx context.Context, id string, do func(Change) error) (run Run, err error) {
	err = c.Follow(ctx, id, 0, func(change Change) error {
		if do != nil {
			if err := do(change); err != nil {
				return err
			}
		}
		if change.Task != "" || change.After == "queued" || change.After == "running" {
			return nil
		}
		var err error
		if run, err = c.Run(ctx, id); err != nil {
			return err
		}
		if run.Ended == nil || change.At.Before(*run.Ended) {
			return nil
		}
		return io.EOF
	})
	return run, err
}

// FollowLog tells the lines of an attempt from that one on, as they come, until
// the attempt has ended.
func (c *Client) FollowLog(ctx context.Context, run, task string, attempt, from int, do func([]Line) error) error {
	query := logQuery(task, attempt)
	query.Set("from", strconv.Itoa(from))
	err := c.events(ctx, "/api/runs/"+url.PathEscape(run)+"/log/stream?"+query.Encode(), func(e event) error {
		switch e.name {
		case "end":
			return io.EOF
		case "lines":
			var lines []Line
			if err := json.Unmarshal(e.data, &lines); err != nil {
				return err
			}
			return do(lines)
		}
		return nil
	})
	if errors.Is(err, io.EOF) && !errors.As(err, new(*Unreachable)) {
		return nil
	}
	return err
}

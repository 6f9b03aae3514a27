// Package client is the Go client of the API.
//
// It may import core for the shapes of definitions. What it keeps true: every
// error is one of three kinds: Problem (the service answered), Unreachable (it
// did not), or the caller's context.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// Client talks to one service. It is safe for concurrent use.
type Client struct {
	server, token, person string
	http                  *http.Client
}

// New makes a client of the service at an address like http://127.0.0.1:7640.
// The person is the name that the service records with what is asked.
func New(server, token, person string) *Client {
	return &Client{server: strings.TrimRight(server, "/"), token: token, person: person, http: &http.Client{}}
}

// Problem is a problem (RFC 9457) that the service answered with.
type Problem struct {
	Status int    `json:"status"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Errors []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
	} `json:"errors"`
}

// Error is the detail and what belongs to it, a line each.
func (p *Problem) Error() string {
	text := p.Detail
	if text == "" {
		text = p.Title
	}
	for _, e := range p.Errors {
		text += "\n"
		if _, field, ok := strings.Cut(e.Location, "."); ok && !strings.HasPrefix(e.Message, e.Location) { // a field of what was asked; other messages name their file
			text += field + ": "
		}
		text += e.Message
	}
	return text
}

// Unreachable says that the service did not answer.
type Unreachable struct {
	Server string
	Err    error
}

func (u *Unreachable) Error() string {
	return fmt.Sprintf("the service at %s could not be reached: %v; start one with lantern serve, or name another with --server", u.Server, u.Err)
}

func (u *Unreachable) Unwrap() error { return u.Err }

func (c *Client) send(ctx context.Context, method, path, contentType string, body io.Reader) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, method, c.server+path, body)
	if err != nil {
		return nil, &Unreachable{c.server, err}
	}
	if c.token != "" {
		request.Header.Set("Authorization", "Bearer "+c.token)
	}
	if c.person != "" {
		request.Header.Set("Lantern-Person", c.person)
	}
	if contentType != "" {
		request.Header.Set("Content-Type", contentType)
	}
	response, err := c.http.Do(request)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		var wrapped *url.Error
		if errors.As(err, &wrapped) {
			err = wrapped.Err
		}
		return nil, &Unreachable{c.server, err}
	}
	if response.StatusCode >= 300 {
		defer response.Body.Close()
		problem := &Problem{Status: response.StatusCode, Title: response.Status}
		text, _ := io.ReadAll(io.LimitReader(response.Body, 1<<20))
		if json.Unmarshal(text, problem) != nil {
			problem.Detail = fmt.Sprintf("%s answered %s; is a lantern service there?", c.server, response.Status)
		}
		return nil, problem
	}
	return response, nil
}

// call sends in as JSON, unless it is nil, and reads the answer into Out.
func call[Out any](ctx context.Context, c *Client, method, path string, in any) (out Out, err error) {
	var body io.Reader
	contentType := ""
	if in != nil {
		text, err := json.Marshal(in)
		if err != nil {
			return out, err
		}
		body, contentType = bytes.NewReader(text), "application/json"
	}
	response, err := c.send(ctx, method, path, contentType, body)
	if err != nil {
		return out, err
	}
	defer response.Body.Close()
	if err := json.NewDecoder(response.Body).Decode(&out); err != nil {
		return out, &Problem{Status: response.StatusCode, Detail: fmt.Sprintf("%s did not answer in JSON: %v; is a lantern service there?", c.server, err)}
	}
	return out, nil
}

// Health tells how the service is. It wants no token.
func (c *Client) Health(ctx context.Context) (Health, error) {
	return call[Health](ctx, c, http.MethodGet, "/api/health", nil)
}

// Workflows lists all workflows.
func (c *Client) Workflows(ctx context.Context) ([]Workflow, error) {
	list, err := call[Workflows](ctx, c, http.MethodGet, "/api/workflows", nil)
	return list.Workflows, err
}

// Workflow is one workflow with its definition.
func (c *Client) Workflow(ctx context.Context, name string) (Workflow, error) {
	return call[Workflow](ctx, c, http.MethodGet, "/api/workflows/"+url.PathEscape(name), nil)
}

// Backfill works through the windows of a past range, or with DryRun only tells
// which.
func (c *Client) Backfill(ctx context.Context, request BackfillRequest) (Backfill, error) {
	return call[Backfill](ctx, c, http.MethodPost, "/api/backfills", request)
}

// Backfills lists backfills, newest first, of one workflow or with "" of all.
func (c *Client) Backfills(ctx context.Context, workflow string) ([]Backfill, error) {
	list, err := call[Backfills](ctx, c, http.MethodGet, "/api/backfills?"+url.Values{"workflow": {workflow}}.Encode(), nil)
	return list.Backfills, err
}

// ShowBackfill is the backfill with that number.
func (c *Client) ShowBackfill(ctx context.Context, number int64) (Backfill, error) {
	return call[Backfill](ctx, c, http.MethodGet, fmt.Sprintf("/api/backfills/%d", number), nil)
}

// BackfillWindows lists the stretches of a backfill in a state, or with "" in any,
// from a place on.
func (c *Client) BackfillWindows(ctx context.Context, number int64, state string, from int) (BackfillWindows, error) {
	query := url.Values{"from": {strconv.Itoa(from)}}
	if state != "" {
		query.Set("state", state)
	}
	return call[BackfillWindows](ctx, c, http.MethodGet, fmt.Sprintf("/api/backfills/%d/windows?%s", number, query.Encode()), nil)
}

// DirectBackfill gives a backfill the word pause, resume, stop or retry.
func (c *Client) DirectBackfill(ctx context.Context, number int64, word string) (Backfill, error) {
	return call[Backfill](ctx, c, http.MethodPost, fmt.Sprintf("/api/backfills/%d/direct", number), BackfillWord{Word: word})
}

// Watermarks lists the values that a workflow keeps from run to run.
func (c *Client) Watermarks(ctx context.Context, workflow string) ([]Watermark, error) {
	list, err := call[Watermarks](ctx, c, http.MethodGet, "/api/workflows/"+url.PathEscape(workflow)+"/watermarks", nil)
	return list.Watermarks, err
}

// WatermarkHistory lists what a watermark was, newest first.
func (c *Client) WatermarkHistory(ctx context.Context, workflow, name string) ([]Watermark, error) {
	list, err := call[Watermarks](ctx, c, http.MethodGet, "/api/workflows/"+url.PathEscape(workflow)+"/watermarks/"+url.PathEscape(name), nil)
	return list.Watermarks, err
}

// SetWatermark sets a watermark by hand.
func (c *Client) SetWatermark(ctx context.Context, workflow, name, text string) ([]Watermark, error) {
	list, err := call[Watermarks](ctx, c, http.MethodPost, "/api/workflows/"+url.PathEscape(workflow)+"/watermarks/"+url.PathEscape(name), WatermarkValue{Text: text})
	return list.Watermarks, err
}

// Upcoming lists what is due within that time, of one workflow or with "" of all,
// at most limit of each.
func (c *Client) Upcoming(ctx context.Context, workflow, ahead string, limit int) (UpcomingPage, error) {
	query := url.Values{"workflow": {workflow}, "for": {ahead}, "limit": {strconv.Itoa(limit)}}
	return call[UpcomingPage](ctx, c, http.MethodGet, "/api/upcoming?"+query.Encode(), nil)
}

// Decisions lists the due windows of a workflow that got no run, newest first.
func (c *Client) Decisions(ctx context.Context, workflow string) ([]Decision, error) {
	list, err := call[Decisions](ctx, c, http.MethodGet, "/api/workflows/"+url.PathEscape(workflow)+"/decisions", nil)
	return list.Decisions, err
}

// NewFeed makes an address of the calendar of what is due.
func (c *Client) NewFeed(ctx context.Context) (Feed, error) {
	return call[Feed](ctx, c, http.MethodPost, "/api/feeds", nil)
}

// RemoveFeeds makes all addresses of the calendar worthless.
func (c *Client) RemoveFeeds(ctx context.Context) error {
	_, err := call[struct{}](ctx, c, http.MethodDelete, "/api/feeds", nil)
	return err
}

// Versions lists the versions of a workflow, newest first.
func (c *Client) Versions(ctx context.Context, workflow string) ([]Version, error) {
	list, err := call[Versions](ctx, c, http.MethodGet, "/api/workflows/"+url.PathEscape(workflow)+"/versions", nil)
	return list.Versions, err
}

// UseVersion goes back to a version, by making a new one that is the same.
func (c *Client) UseVersion(ctx context.Context, workflow string, version int) (AppliedChange, error) {
	return call[AppliedChange](ctx, c, http.MethodPost, "/api/workflows/"+url.PathEscape(workflow)+"/versions", UseVersion{Version: version})
}

// Apply makes the workflows those of the request.
func (c *Client) Apply(ctx context.Context, request ApplyRequest) (Applied, error) {
	return call[Applied](ctx, c, http.MethodPost, "/api/apply", request)
}

// SendParcel sends a folder of code.
func (c *Client) SendParcel(ctx context.Context, archive []byte) (parcel Parcel, err error) {
	response, err := c.send(ctx, http.MethodPost, "/api/parcels", "application/gzip", bytes.NewReader(archive))
	if err != nil {
		return parcel, err
	}
	defer response.Body.Close()
	err = json.NewDecoder(response.Body).Decode(&parcel)
	return parcel, err
}

// Start starts a run.
func (c *Client) Start(ctx context.Context, workflow string, request StartRequest) (Run, error) {
	return call[Run](ctx, c, http.MethodPost, "/api/workflows/"+url.PathEscape(workflow)+"/runs", request)
}

// Pause stops a workflow from making runs by itself.
func (c *Client) Pause(ctx context.Context, workflow string) (Workflow, error) {
	return call[Workflow](ctx, c, http.MethodPost, "/api/workflows/"+url.PathEscape(workflow)+"/pause", nil)
}

// Resume lets a workflow go on.
func (c *Client) Resume(ctx context.Context, workflow string) (Resumed, error) {
	return call[Resumed](ctx, c, http.MethodPost, "/api/workflows/"+url.PathEscape(workflow)+"/resume", nil)
}

// RunsFilter chooses runs; a zero field does not restrict.
type RunsFilter struct {
	Workflow string
	States   []string
	Before   string // the Next of the page before
	Limit    int    // up to 500

	Cause, From, Until    string
	EndedFrom, EndedUntil string // moments, RFC 3339 or dates
	Param, Error          string
	Version               int
}

// Runs lists runs, newest first.
func (c *Client) Runs(ctx context.Context, f RunsFilter) (Runs, error) {
	query := url.Values{}
	if f.Workflow != "" {
		query.Set("workflow", f.Workflow)
	}
	if len(f.States) > 0 {
		query.Set("state", strings.Join(f.States, ","))
	}
	if f.Before != "" {
		query.Set("before", f.Before)
	}
	if f.Limit > 0 {
		query.Set("limit", strconv.Itoa(f.Limit))
	}
	for name, value := range map[string]string{"cause": f.Cause, "from": f.From, "until": f.Until, "ended_from": f.EndedFrom, "ended_until": f.EndedUntil, "param": f.Param, "error": f.Error} {
		if value != "" {
			query.Set(name, value)
		}
	}
	if f.Version > 0 {
		query.Set("version", strconv.Itoa(f.Version))
	}
	return call[Runs](ctx, c, http.MethodGet, "/api/runs?"+query.Encode(), nil)
}

// Run is one run, NAME:NUMBER, or the newest of NAME.
func (c *Client) Run(ctx context.Context, id string) (Run, error) {
	return call[Run](ctx, c, http.MethodGet, "/api/runs/"+url.PathEscape(id), nil)
}

// RunFolded is a run with its tasks, but without the items of those that are made
// for each.
func (c *Client) RunFolded(ctx context.Context, id string) (Run, error) {
	return call[Run](ctx, c, http.MethodGet, "/api/runs/"+url.PathEscape(id)+"?fold=true", nil)
}

// ItemsFilter chooses items of a task: in one of the states, if any are given,
// from that place in the list on.
type ItemsFilter struct {
	States []string
	From   int
	Limit  int // 0 is what the service thinks right
}

// Items lists the items of a task that is made for each, in order.
func (c *Client) Items(ctx context.Context, run, task string, f ItemsFilter) (Items, error) {
	query := url.Values{"task": {task}}
	if len(f.States) > 0 {
		query.Set("state", strings.Join(f.States, ","))
	}
	if f.From > 0 {
		query.Set("from", strconv.Itoa(f.From))
	}
	if f.Limit > 0 {
		query.Set("limit", strconv.Itoa(f.Limit))
	}
	return call[Items](ctx, c, http.MethodGet, "/api/runs/"+url.PathEscape(run)+"/items?"+query.Encode(), nil)
}

// Changes lists every change of a run, oldest first.
func (c *Client) Changes(ctx context.Context, id string) ([]Change, error) {
	list, err := call[Changes](ctx, c, http.MethodGet, "/api/runs/"+url.PathEscape(id)+"/changes?limit=5000", nil)
	return list.Changes, err
}

// Stop stops a run, or the task of it that is named.
func (c *Client) Stop(ctx context.Context, id, task string) (Run, error) {
	return call[Run](ctx, c, http.MethodPost, "/api/runs/"+url.PathEscape(id)+"/stop", StopRequest{Task: task})
}

// Rerun makes tasks of a run again.
func (c *Client) Rerun(ctx context.Context, id string, request RerunRequest) (Rerun, error) {
	return call[Rerun](ctx, c, http.MethodPost, "/api/runs/"+url.PathEscape(id)+"/rerun", request)
}

// Release gives a person's word about a held task: "succeeded", "skipped", "run".
func (c *Client) Release(ctx context.Context, id, task, as string) (Run, error) {
	return call[Run](ctx, c, http.MethodPost, "/api/runs/"+url.PathEscape(id)+"/release", ReleaseRequest{Task: task, As: as})
}

// Capacities lists all capacities.
func (c *Client) Capacities(ctx context.Context) ([]Capacity, error) {
	list, err := call[Capacities](ctx, c, http.MethodGet, "/api/capacities", nil)
	return list.Capacities, err
}

// SetCapacity says how many units of a capacity there are.
func (c *Client) SetCapacity(ctx context.Context, name string, units int) (Capacity, error) {
	return call[Capacity](ctx, c, http.MethodPut, "/api/capacities/"+url.PathEscape(name), CapacityUnits{Units: units})
}

// SignInLink makes an address that signs its reader in once.
func (c *Client) SignInLink(ctx context.Context) (SignInLink, error) {
	return call[SignInLink](ctx, c, http.MethodPost, "/api/sign-in-links", nil)
}

func logQuery(task string, attempt int) url.Values {
	return url.Values{"task": {task}, "attempt": {strconv.Itoa(attempt)}}
}

// Lines reads lines of a log from that line on, counted from 0; attempt 0 is the
// newest.
func (c *Client) Lines(ctx context.Context, run, task string, attempt, from int) (Lines, error) {
	query := logQuery(task, attempt)
	query.Set("from", strconv.Itoa(from))
	query.Set("limit", "5000")
	return call[Lines](ctx, c, http.MethodGet, "/api/runs/"+url.PathEscape(run)+"/log?"+query.Encode(), nil)
}

// LastLines reads the last lines of a log.
func (c *Client) LastLines(ctx context.Context, run, task string, attempt, count int) (Lines, error) {
	query := logQuery(task, attempt)
	query.Set("last", strconv.Itoa(count))
	query.Set("limit", strconv.Itoa(count))
	return call[Lines](ctx, c, http.MethodGet, "/api/runs/"+url.PathEscape(run)+"/log?"+query.Encode(), nil)
}

// RawLog opens what an attempt printed, byte for byte.
func (c *Client) RawLog(ctx context.Context, run, task string, attempt int) (io.ReadCloser, error) {
	response, err := c.send(ctx, http.MethodGet, "/api/runs/"+url.PathEscape(run)+"/log/raw?"+logQuery(task, attempt).Encode(), "", nil)
	if err != nil {
		return nil, err
	}
	return response.Body, nil
}

// Backup opens an archive of everything that the service has.
func (c *Client) Backup(ctx context.Context) (io.ReadCloser, error) {
	response, err := c.send(ctx, http.MethodGet, "/api/backup", "", nil)
	if err != nil {
		return nil, err
	}
	return response.Body, nil
}

// WaitUntilUp asks until the service answers.
func (c *Client) WaitUntilUp(ctx context.Context) error {
	for {
		_, err := c.Health(ctx)
		if err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(20 * time.Millisecond):
		}
	}
}

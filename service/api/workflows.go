package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wiselantern/client"
	"wiselantern/core/calendar"
	"wiselantern/core/definition"
	"wiselantern/parcel"
	"wiselantern/service/engine"
	"wiselantern/service/store"
)

// WorkflowPath names a workflow in an address. It is exported only because huma
// fills in no embedded struct that is not.
type WorkflowPath struct {
	Name string `path:"name" example:"gauge-hourly"`
}

func (a *API) workflowRoutes(api huma.API) {
	route(api, http.MethodGet, "/api/workflows", "list-workflows", "Workflows", "List all workflows", a.listWorkflows)
	route(api, http.MethodGet, "/api/workflows/{name}", "show-workflow", "Workflows", "Show a workflow with its definition", a.showWorkflow)
	route(api, http.MethodPost, "/api/workflows/{name}/runs", "start", "Workflows", "Start a run now", a.start)
	route(api, http.MethodPost, "/api/workflows/{name}/pause", "pause", "Workflows", "Stop making runs by itself; what comes due is remembered",
		func(ctx context.Context, in *WorkflowPath) (client.Workflow, error) {
			if err := a.Engine.Pause(ctx, in.Name, personOf(ctx)); err != nil {
				return client.Workflow{}, err
			}
			return a.showWorkflow(ctx, in)
		})
	route(api, http.MethodPost, "/api/workflows/{name}/resume", "resume", "Workflows", "Go on making runs, first those for what came due meanwhile",
		func(ctx context.Context, in *WorkflowPath) (client.Resumed, error) {
			missed, err := a.Engine.Resume(ctx, in.Name)
			return client.Resumed{Missed: missed}, err
		})
	route(api, http.MethodGet, "/api/workflows/{name}/versions", "list-versions", "Workflows", "List the versions of a workflow, newest first", a.listVersions)
	route(api, http.MethodPost, "/api/workflows/{name}/versions", "use-version", "Workflows", "Go back to a version, by making a new one that is the same", a.useVersion)
	route(api, http.MethodPost, "/api/apply", "apply", "Workflows", "Make the workflows those of a project", a.apply)
	route(api, http.MethodPost, "/api/parcels", "send-parcel", "Workflows", "Send a folder of code, as a gzip-compressed tar archive", a.keepParcel)
}

func decodeDefinition(row store.Version) (*definition.Workflow, error) {
	d := &definition.Workflow{}
	if err := json.Unmarshal([]byte(row.Definition), d); err != nil {
		return nil, fmt.Errorf("version %d of a workflow cannot be read: %w", row.Number, err)
	}
	return d, nil
}

// recentRuns is how many runs are shown of each workflow.
const recentRuns = 12

func (a *API) listWorkflows(ctx context.Context, _ *nothing) (client.Workflows, error) {
	rows, err := a.Store.Workflows(ctx)
	if err != nil {
		return client.Workflows{}, err
	}
	next, err := a.Engine.Next(ctx)
	if err != nil {
		return client.Workflows{}, err
	}
	heads, err := a.Store.VersionHeads(ctx)
	if err != nil {
		return client.Workflows{}, err
	}
	open, err := a.Store.CountAllOpen(ctx)
	if err != nil {
		return client.Workflows{}, err
	}
	recent, err := a.Store.RecentRuns(ctx, 0, recentRuns)
	if err != nil {
		return client.Workflows{}, err
	}
	list := client.Workflows{Workflows: []client.Workflow{}}
	for _, row := range rows {
		if row.Removed.Valid {
			continue
		}
		w, err := a.workflowOf(ctx, row, heads[row.ID], next, open[row.ID], recent[row.ID])
		if err != nil {
			return list, err
		}
		w.Definition = nil
		list.Workflows = append(list.Workflows, w)
	}
	return list, nil
}

func (a *API) workflow(ctx context.Context, row store.Workflow, next map[string]time.Time) (w client.Workflow, err error) {
	version, err := a.Store.Version(ctx, row.ID, row.Version)
	if err != nil {
		return w, err
	}
	open, err := a.Store.CountOpen(ctx, row.ID)
	if err != nil {
		return w, err
	}
	recent, err := a.Store.RecentRuns(ctx, row.ID, recentRuns)
	if err != nil {
		return w, err
	}
	return a.workflowOf(ctx, row, version, next, open, recent[row.ID])
}

func (a *API) workflowOf(ctx context.Context, row store.Workflow, version store.Version, next map[string]time.Time, open int, recent []store.Run) (w client.Workflow, err error) {
	d, err := a.definitionOf(ctx, row.ID, row.Version)
	if err != nil {
		return w, err
	}
	w = client.Workflow{Name: row.Name, About: d.About, Owner: d.Owner, Labels: list(d.Labels), Version: row.Version, Project: version.Project, Environment: version.Environment, File: version.File,
		Applied: version.Applied.Time(), AppliedBy: version.AppliedBy, Tasks: len(d.Tasks), Starts: []string{}, Definition: d.Workflow, Open: open, Recent: []client.RunMark{}}
	for _, s := range d.Starts {
		w.Starts = append(w.Starts, s.String())
	}
	for _, o := range d.Outside {
		w.Starts = append(w.Starts, o.String())
	}
	if row.Removed.Valid {
		w.Removed = &client.Paused{Since: row.Removed.Time(), By: row.RemovedBy}
	}
	if row.PausedAt.Valid {
		w.Paused = &client.Paused{Since: row.PausedAt.Time(), By: row.PausedBy}
	}
	if at, ok := next[row.Name]; ok {
		at = at.UTC()
		w.Next = &at
	}
	for _, run := range recent {
		mark := client.RunMark{ID: engine.RunName(row.Name, run.Number), State: run.State}
		if run.WindowEnd.Valid {
			mark.Window = &client.Window{Start: run.WindowStart.Time(), End: run.WindowEnd.Time()}
		}
		w.Recent = append(w.Recent, mark)
	}
	return w, nil
}

// list is never null in JSON.
func list(texts []string) []string {
	if texts == nil {
		return []string{}
	}
	return texts
}

func (a *API) showWorkflow(ctx context.Context, in *WorkflowPath) (w client.Workflow, err error) {
	row, err := a.findWorkflow(ctx, in.Name)
	if err != nil {
		return w, err
	}
	next, err := a.Engine.Next(ctx)
	if err != nil {
		return w, err
	}
	return a.workflow(ctx, row, next)
}

func (a *API) findWorkflow(ctx context.Context, name string) (store.Workflow, error) {
	row, err := a.Store.WorkflowNamed(ctx, name)
	if !errors.Is(err, store.ErrNotFound) {
		return row, err
	}
	rows, err := a.Store.Workflows(ctx)
	if err != nil {
		return row, err
	}
	var names []string
	for _, row := range rows {
		names = append(names, row.Name)
	}
	return row, engine.Unknown("workflow", name, names)
}

func (a *API) start(ctx context.Context, in *struct {
	WorkflowPath
	Body client.StartRequest
}) (run client.Run, err error) {
	row, err := a.findWorkflow(ctx, in.Name)
	if err != nil {
		return run, err
	}
	d, err := a.definitionOf(ctx, row.ID, row.Version)
	if err != nil {
		return run, err
	}
	values, err := readTexts(d.Workflow, in.Body.Texts)
	if err != nil {
		return run, err
	}
	for name, value := range in.Body.Params {
		values[name] = value
	}
	var window calendar.Window
	if w := in.Body.Window; w != nil {
		if !w.Start.Before(w.End) {
			return run, &engine.RefusedError{Reason: fmt.Sprintf("the window from %s to %s is empty; its end must come after its start", w.Start.Format(time.RFC3339), w.End.Format(time.RFC3339))}
		}
		window = calendar.Window{Start: w.Start, End: w.End}
	}
	made, err := a.Engine.Start(ctx, in.Name, engine.Wanted{Params: values, Window: window, Only: in.Body.Only, Results: in.Body.Results}, personOf(ctx))
	if err != nil {
		return run, err
	}
	return a.summaryOf(ctx, made)
}

// readTexts reads values by the types of their params; what has no param stays
// text, and is refused later.
func readTexts(d *definition.Workflow, texts map[string]string) (values definition.Values, err error) {
	values = definition.Values{}
	for name, text := range texts {
		values[name] = text
		if p, ok := d.Param(name); ok {
			if values[name], err = p.Parse(text); err != nil {
				return nil, &engine.RefusedError{Reason: fmt.Sprintf("param %q: %v", name, err)}
			}
		}
	}
	return values, nil
}

func (a *API) apply(ctx context.Context, in *struct{ Body client.ApplyRequest }) (client.Applied, error) {
	project, problems := definition.LoadFor(in.Body.Files, in.Body.Environment)
	if problems != nil {
		return client.Applied{}, problems
	}
	if len(project.Workflows) == 0 {
		return client.Applied{}, &engine.RefusedError{Reason: "there is no workflow in it; write one to workflows/NAME.yaml"}
	}
	if in.Body.Parcel != "" && !in.Body.DryRun {
		has, err := a.Store.HasParcel(ctx, in.Body.Parcel)
		if err != nil {
			return client.Applied{}, err
		}
		if !has {
			return client.Applied{}, &engine.RefusedError{Reason: fmt.Sprintf("the parcel %.12s was not sent; send it first", in.Body.Parcel)}
		}
	}
	changes, set, err := a.Engine.Apply(ctx, project, in.Body.Parcel, personOf(ctx), in.Body.DryRun)
	if err != nil {
		return client.Applied{}, err
	}
	applied := client.Applied{Project: project.Name, Environment: project.Environment, Workflows: []client.AppliedChange{}}
	for _, c := range changes {
		applied.Workflows = append(applied.Workflows, client.AppliedChange{Workflow: c.Workflow, Change: c.Change, Version: c.Version, Differences: c.Differences, Code: c.Code})
	}
	for _, c := range set {
		applied.Capacities = append(applied.Capacities, client.CapacityChange(c))
	}
	return applied, nil
}

func (a *API) listVersions(ctx context.Context, in *WorkflowPath) (list client.Versions, err error) {
	row, err := a.findWorkflow(ctx, in.Name)
	if err != nil {
		return list, err
	}
	rows, err := a.Store.Versions(ctx, row.ID)
	list.Versions = make([]client.Version, len(rows))
	for i, v := range rows {
		list.Versions[i] = client.Version{Number: v.Number, Current: v.Number == row.Version, Applied: v.Applied.Time(), AppliedBy: v.AppliedBy, File: v.File, Parcel: v.Parcel, Hash: v.Hash}
	}
	return list, err
}

func (a *API) useVersion(ctx context.Context, in *struct {
	WorkflowPath
	Body client.UseVersion
}) (client.AppliedChange, error) {
	row, err := a.findWorkflow(ctx, in.Name)
	if err != nil {
		return client.AppliedChange{}, err
	}
	version, err := a.Store.Version(ctx, row.ID, in.Body.Version)
	if errors.Is(err, store.ErrNotFound) {
		return client.AppliedChange{}, &engine.UnknownError{What: "version", Name: strconv.Itoa(in.Body.Version), Known: []string{fmt.Sprintf("versions 1 to %d of %s", row.Version, row.Name)}}
	}
	if err != nil {
		return client.AppliedChange{}, err
	}
	d, err := decodeDefinition(version)
	if err != nil {
		return client.AppliedChange{}, err
	}
	project := &definition.Project{Name: version.Project, Workflows: []*definition.Workflow{d}, Files: map[string]string{d.Name: version.File}}
	changes, _, err := a.Engine.Apply(ctx, project, version.Parcel, personOf(ctx), in.Body.DryRun)
	if err != nil {
		return client.AppliedChange{}, err
	}
	return client.AppliedChange{Workflow: changes[0].Workflow, Change: changes[0].Change, Version: changes[0].Version}, nil
}

func (a *API) keepParcel(ctx context.Context, in *struct {
	RawBody []byte `contentType:"application/gzip"`
}) (client.Parcel, error) {
	if len(in.RawBody) > parcel.MaxBytes {
		return client.Parcel{}, huma.Error413RequestEntityTooLarge(fmt.Sprintf("the parcel has over %d MB", parcel.MaxBytes>>20))
	}
	found, err := a.Parcels.Keep(in.RawBody)
	if err != nil {
		if errors.Is(err, io.ErrUnexpectedEOF) || found == nil {
			return client.Parcel{}, huma.Error422UnprocessableEntity(err.Error())
		}
		return client.Parcel{}, err
	}
	return client.Parcel{Name: found.Name, Files: found.Files, Bytes: found.Bytes}, a.Engine.AddParcel(ctx, found.Name, found.Bytes, found.Files)
}

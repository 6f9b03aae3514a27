package api

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wiselantern/client"
	"wiselantern/core/backfill"
	"wiselantern/core/definition"
	"wiselantern/service/engine"
	"wiselantern/service/store"
)

// BackfillPath names a backfill in an address.
type BackfillPath struct {
	Number int64 `path:"number" example:"3"`
}

func (a *API) backfillRoutes(api huma.API) {
	route(api, http.MethodPost, "/api/backfills", "backfill", "Backfills", "Work through the windows of a past range, or only tell which", a.backfill)
	route(api, http.MethodGet, "/api/backfills", "list-backfills", "Backfills", "List backfills, newest first",
		func(ctx context.Context, in *struct {
			Workflow string `query:"workflow" doc:"Only of this workflow"`
			Limit    int    `query:"limit" default:"50" minimum:"1" maximum:"500"`
		}) (page client.Backfills, err error) {
			var workflow store.Workflow
			if in.Workflow != "" {
				if workflow, err = a.findWorkflow(ctx, in.Workflow); err != nil {
					return page, err
				}
			}
			rows, err := a.Store.Backfills(ctx, workflow.ID, in.Limit)
			page.Backfills = make([]client.Backfill, len(rows))
			for i := 0; err == nil && i < len(rows); i++ {
				page.Backfills[i], err = a.backfillOf(ctx, rows[i])
			}
			return page, err
		})
	route(api, http.MethodGet, "/api/backfills/{number}", "show-backfill", "Backfills", "Show a backfill",
		func(ctx context.Context, in *BackfillPath) (b client.Backfill, err error) {
			row, err := a.findBackfill(ctx, in.Number)
			if err != nil {
				return b, err
			}
			return a.backfillOf(ctx, row)
		})
	route(api, http.MethodGet, "/api/backfills/{number}/windows", "list-backfill-windows", "Backfills", "List the stretches of a backfill and what has become of them", a.listBackfillWindows)
	route(api, http.MethodPost, "/api/backfills/{number}/direct", "direct-backfill", "Backfills", "Pause a backfill, let it go on, stop it, or try again what did not succeed",
		func(ctx context.Context, in *struct {
			BackfillPath
			Body client.BackfillWord
		}) (b client.Backfill, err error) {
			if _, err := a.findBackfill(ctx, in.Number); err != nil {
				return b, err
			}
			if err := a.Engine.DirectBackfill(ctx, in.Number, in.Body.Word, personOf(ctx)); err != nil {
				return b, err
			}
			row, err := a.findBackfill(ctx, in.Number)
			if err != nil {
				return b, err
			}
			return a.backfillOf(ctx, row)
		})
}

func (a *API) findBackfill(ctx context.Context, number int64) (store.Backfill, error) {
	row, err := a.Store.Backfill(ctx, number)
	if err == store.ErrNotFound {
		return row, huma.Error404NotFound("there is no such backfill; lantern backfills lists them")
	}
	return row, err
}

func (a *API) backfill(ctx context.Context, in *struct{ Body client.BackfillRequest }) (b client.Backfill, err error) {
	r := in.Body
	row, err := a.findWorkflow(ctx, r.Workflow)
	if err != nil {
		return b, err
	}
	d, err := a.definitionOf(ctx, row.ID, row.Version)
	if err != nil {
		return b, err
	}
	asked := engine.Asked{From: r.From, To: r.To, Zone: r.Zone, Only: backfill.Only(r.Only), Newest: r.Order == "newest", Days: r.Days, Months: r.Months, AtOnce: r.AtOnce, StopAfter: r.StopAfter, Tasks: r.Tasks}
	if asked.Only == "" {
		asked.Only = backfill.OnlyMissing
	}
	for text, into := range map[string]*definition.Length{r.Every: &asked.Every, r.Merge: &asked.Merge} {
		if text == "" {
			continue
		}
		if *into, err = definition.ParseLength(text); err != nil {
			return b, &engine.RefusedError{Reason: err.Error()}
		}
	}
	if asked.Params, err = readTexts(d.Workflow, r.Texts); err != nil {
		return b, err
	}
	made, preview, err := a.Engine.Backfill(ctx, r.Workflow, asked, personOf(ctx), r.DryRun)
	if err != nil {
		return b, err
	}
	if !r.DryRun {
		if made, err = a.Store.Backfill(ctx, made.ID); err != nil {
			return b, err
		}
		if b, err = a.backfillOf(ctx, made); err != nil {
			return b, err
		}
	} else {
		b = client.Backfill{Workflow: r.Workflow, State: "preview", From: preview.Range.From, Until: preview.Range.Until, Zone: preview.Zone, Only: string(asked.Only), AtOnce: preview.AtOnce,
			StopAfter: r.StopAfter, Tasks: r.Tasks, Params: asked.Params.Shown(d.Params), Runs: len(preview.Stretches)}
		b.Order = order(asked.Newest)
	}
	b.Windows, b.Chosen, b.Leaving = map[string]int{}, preview.Chosen, preview.Leaving
	for state, n := range preview.States {
		b.Windows[string(state)] = n
	}
	b.Each, b.Left = preview.Each.Seconds(), preview.Took.Seconds()
	return b, nil
}

func order(newest bool) string {
	if newest {
		return "newest"
	}
	return "oldest"
}

func (a *API) backfillOf(ctx context.Context, row store.Backfill) (b client.Backfill, err error) {
	var asked engine.Asked
	if err := json.Unmarshal([]byte(row.Asked), &asked); err != nil {
		return b, err
	}
	b = client.Backfill{Number: row.ID, Workflow: row.Name, State: row.State, Reason: row.Reason, From: row.RangeFrom.Time(), Until: row.RangeUntil.Time(), Zone: asked.Zone, Only: string(asked.Only),
		Order: order(asked.Newest), AtOnce: row.AtOnce, StopAfter: row.StopAfter, Tasks: asked.Tasks, Created: moment(row.Created), CreatedBy: row.CreatedBy, Ended: moment(row.Ended),
		Runs: row.Total, Counts: map[string]int{}}
	workflow, err := a.findWorkflow(ctx, row.Name)
	if err != nil {
		return b, err
	}
	d, err := a.definitionOf(ctx, workflow.ID, workflow.Version)
	if err != nil {
		return b, err
	}
	b.Params = asked.Params.Shown(d.Params)
	counts, err := a.Store.BackfillCounts(ctx, row.ID)
	if err != nil {
		return b, err
	}
	for _, c := range counts {
		b.Counts[c.State] = c.Count
	}
	done := b.Counts["succeeded"] + b.Counts["failed"]
	took := time.Since(row.Created.Time())
	if row.Ended.Valid {
		took = row.Ended.Time().Sub(row.Created.Time())
	}
	if done > 0 && took > 0 {
		b.PerHour = float64(done) / took.Hours()
		if row.State == engine.BackfillRunning {
			b.Left = float64(b.Counts["waiting"]+b.Counts["running"]) / b.PerHour * 3600
		}
	}
	return b, nil
}

func (a *API) listBackfillWindows(ctx context.Context, in *struct {
	BackfillPath
	State string `query:"state" enum:"waiting,running,succeeded,failed,stopped" doc:"Only in this state"`
	From  int    `query:"from" minimum:"0" doc:"The first place that is wanted"`
	Limit int    `query:"limit" default:"1000" minimum:"1" maximum:"10000"`
}) (page client.BackfillWindows, err error) {
	row, err := a.findBackfill(ctx, in.Number)
	if err != nil {
		return page, err
	}
	rows, err := a.Store.BackfillWindows(ctx, row.ID, in.State, in.From, in.Limit+1)
	if err != nil {
		return page, err
	}
	if len(rows) > in.Limit {
		next := rows[in.Limit].Place
		page.Next, rows = &next, rows[:in.Limit]
	}
	page.Windows = make([]client.BackfillWindow, len(rows))
	for i, r := range rows {
		page.Windows[i] = client.BackfillWindow{Place: r.Place, Window: client.Window{Start: r.WindowStart.Time(), End: r.WindowEnd.Time()}, Windows: r.Windows, State: r.State}
		if r.Number.Valid {
			page.Windows[i].Run = engine.RunName(row.Name, int(r.Number.Int64))
		}
	}
	return page, nil
}

package api

import (
	"context"

	"wiselantern/client"
)

// listItems lists the items of a task that is made for each.
func (a *API) listItems(ctx context.Context, in *struct {
	RunPath
	Task  string   `query:"task" required:"true" example:"quality/range"`
	State []string `query:"state" doc:"Only in one of these states"`
	From  int      `query:"from" minimum:"0" doc:"The first place in the list that is wanted"`
	Limit int      `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}) (page client.Items, err error) {
	row, err := a.findRun(ctx, in.Run)
	if err != nil {
		return page, err
	}
	d, err := a.definitionOf(ctx, row.Workflow, row.Version)
	if err != nil {
		return page, err
	}
	place, err := a.findTask(ctx, row, d, in.Task)
	if err != nil {
		return page, err
	}
	rows, err := a.Store.Items(ctx, row.ID, place, in.State, in.From, in.Limit+1)
	page.Items = []client.Task{}
	if err != nil || len(rows) == 0 {
		return page, err
	}
	if len(rows) > in.Limit {
		next := int(rows[in.Limit].Item.Int64)
		page.Next, rows = &next, rows[:in.Limit]
	}
	attempts, err := a.Store.AttemptsOf(ctx, row.ID, rows[0].Task, rows[len(rows)-1].Task)
	if err != nil {
		return page, err
	}
	waits, err := a.waits(ctx, row)
	if err != nil {
		return page, err
	}
	made := map[int]*client.Task{}
	for _, r := range rows {
		one, err := taskOf(r, d)
		if err != nil {
			return page, err
		}
		one.Waits = waits[r.Task]
		made[r.Task] = &one
	}
	if err := a.addAttempts(ctx, made, attempts); err != nil {
		return page, err
	}
	for _, r := range rows {
		page.Items = append(page.Items, *made[r.Task])
	}
	return page, nil
}

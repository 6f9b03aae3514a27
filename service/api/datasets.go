package api

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wiselantern/client"
	"wiselantern/core/definition"
	"wiselantern/service/engine"
	"wiselantern/service/signals"
	"wiselantern/service/store"
)

func (a *API) listDatasets(ctx context.Context, _ *nothing) (client.Datasets, error) {
	list := client.Datasets{Datasets: []client.Dataset{}}
	expected, err := a.Engine.Expectations(ctx)
	if err != nil {
		return list, err
	}
	newest, err := a.Store.NewestUpdates(ctx)
	if err != nil {
		return list, err
	}
	now := time.Now()
	counts, err := a.Store.CountUpdates(ctx, store.At(now.Add(-24*time.Hour)))
	if err != nil {
		return list, err
	}
	updates := map[string]*client.Update{}
	for _, row := range newest {
		one, err := a.updateOf(ctx, row)
		if err != nil {
			return list, err
		}
		updates[row.Dataset] = &one
		if expected[row.Dataset] == nil {
			expected[row.Dataset] = &engine.Freshness{}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(expected)) {
		f := expected[name]
		one := client.Dataset{Name: name, About: f.About, Newest: updates[name], Day: counts[name], UpdatedBy: orEmpty(f.UpdatedBy), UsedBy: orEmpty(f.StartsOrFor)}
		if f.Within > 0 {
			one.FreshWithin = definition.Length(f.Within).String()
			since := f.Since.Add(f.Within)
			if one.Newest != nil {
				since = one.Newest.At.Add(f.Within)
			}
			if now.After(since) {
				since = since.UTC()
				one.Late, one.LateSince = true, &since
			}
		}
		list.Datasets = append(list.Datasets, one)
	}
	return list, nil
}

func orEmpty(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

func (a *API) updateOf(ctx context.Context, row store.Update) (u client.Update, err error) {
	u = client.Update{Number: row.ID, At: row.At.Time()}
	if row.WindowEnd.Valid {
		u.Window = &client.Window{Start: row.WindowStart.Time(), End: row.WindowEnd.Time()}
	}
	if err := json.Unmarshal([]byte(row.Info), &u.Info); err != nil {
		return u, err
	}
	if !row.Run.Valid {
		u.Source = row.Source
		return u, nil
	}
	u.Run = engine.RunName(row.Name.String, int(row.Number.Int64))
	u.Task, err = a.taskName(ctx, row.Of.Int64, int(row.Version.Int64), row.Run.Int64, int(row.Task.Int64))
	return u, err
}

func (a *API) listUpdates(ctx context.Context, in *struct {
	Dataset string `query:"dataset" required:"true" example:"readings/clean"`
	Before  string `query:"before" doc:"The next of the page before"`
	Limit   int    `query:"limit" default:"50" minimum:"1" maximum:"500"`
}) (page client.Updates, err error) {
	page.Updates = []client.Update{}
	var before int64
	if in.Before != "" {
		if before, err = strconv.ParseInt(in.Before, 10, 64); err != nil {
			return page, huma.Error422UnprocessableEntity("before is not the next of a page")
		}
	}
	rows, err := a.Store.Updates(ctx, in.Dataset, before, in.Limit+1)
	if err != nil {
		return page, err
	}
	if len(rows) == 0 && before == 0 {
		expected, err := a.Engine.Expectations(ctx)
		if err == nil && expected[in.Dataset] == nil {
			err = engine.Unknown("data set", in.Dataset, slices.Sorted(maps.Keys(expected)))
		}
		return page, err
	}
	if len(rows) > in.Limit {
		rows = rows[:in.Limit]
		page.Next = strconv.FormatInt(rows[in.Limit-1].ID, 10)
	}
	place := map[int64]int{}
	for i, row := range rows {
		one, err := a.updateOf(ctx, row)
		if err != nil {
			return page, err
		}
		page.Updates = append(page.Updates, one)
		place[row.ID] = i
	}
	if len(rows) == 0 {
		return page, nil
	}
	uses, err := a.Store.Uses(ctx, in.Dataset, rows[len(rows)-1].ID, rows[0].ID)
	for _, u := range uses {
		one := client.DatasetUse{Run: engine.RunName(u.Name, u.Number), At: u.At.Time()}
		if u.Task >= 0 {
			if one.Task, err = a.taskName(ctx, u.Of, u.Version, u.Run, u.Task); err != nil {
				return page, err
			}
		}
		if i, ok := place[u.Update]; ok {
			page.Updates[i].Uses = append(page.Updates[i].Uses, one)
		}
	}
	return page, err
}

func shownConnection(row store.Connection) client.Connection {
	return client.Connection{Name: row.Name, Address: signals.HideSecret(row.Address)}
}

func (a *API) listConnections(ctx context.Context, _ *nothing) (client.Connections, error) {
	rows, err := a.Store.Connections(ctx)
	list := client.Connections{Connections: []client.Connection{}}
	for _, row := range rows {
		list.Connections = append(list.Connections, shownConnection(row))
	}
	return list, err
}

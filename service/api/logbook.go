package api

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wiselantern/client"
	"wiselantern/core/flow"
	"wiselantern/service/store"
)

// RunQuery narrows a listing of runs down.
type RunQuery struct {
	Cause   string `query:"cause" enum:"schedule,event,backfill,person,workflow" doc:"Only with this cause"`
	Version int    `query:"version" minimum:"0" doc:"Only of this version of the definition"`
	From    string `query:"from" example:"2026-03-01" doc:"Only for windows that end after this moment, RFC 3339 or a date in UTC"`
	Until   string `query:"until" example:"2026-03-28" doc:"Only for windows that begin before this moment"`
	After   string `query:"ended_from" doc:"Only that ended at this moment or later"`
	Ended   string `query:"ended_until" doc:"Only that ended before this moment"`
	Param   string `query:"param" example:"basin=upper" doc:"Only with this value of a param, as text"`
	Error   string `query:"error" doc:"Only with an attempt whose error has this text in it"`
	Ribbon  bool   `query:"ribbon" doc:"Tell how the tasks of each run came out"`
}

func (q RunQuery) fill(f *store.RunFilter) error {
	f.Cause, f.Version, f.Error = q.Cause, q.Version, q.Error
	for _, m := range []struct {
		name, text string
		to         *store.Moment
	}{{"from", q.From, &f.From}, {"until", q.Until, &f.Until}, {"ended_from", q.After, &f.EndedFrom}, {"ended_until", q.Ended, &f.EndedUntil}} {
		if m.text == "" {
			continue
		}
		at, err := readMoment(m.text)
		if err != nil {
			return huma.Error422UnprocessableEntity(m.name + " " + err.Error())
		}
		*m.to = store.At(at)
	}
	if q.Param != "" {
		name, value, ok := strings.Cut(q.Param, "=")
		if !ok || name == "" {
			return huma.Error422UnprocessableEntity(fmt.Sprintf("param is %q; write NAME=VALUE", q.Param))
		}
		f.Param, f.Value = name, value
	}
	return nil
}

// readMoment reads a moment as RFC 3339 has it, or a date, which is its first moment
// in UTC.
func readMoment(text string) (time.Time, error) {
	if at, err := time.Parse(time.DateOnly, text); err == nil {
		return at, nil
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return at, fmt.Errorf("is %q; write a moment as 2026-03-28T06:00:00Z, or a date as 2026-03-28", text)
	}
	return at, nil
}

// addRibbons adds to each run how its tasks came out.
func (a *API) addRibbons(ctx context.Context, runs []client.Run, of []store.Run) error {
	ids := make([]int64, len(of))
	ribbons := make(map[int64]*client.Ribbon, len(of))
	for i, row := range of {
		ids[i] = row.ID
		runs[i].Ribbon = &client.Ribbon{Seconds: []float64{}}
		ribbons[row.ID] = runs[i].Ribbon
	}
	rows, err := a.Store.Ribbons(ctx, ids)
	if err != nil {
		return err
	}
	now := time.Now()
	for _, row := range rows {
		state, err := flow.ParseState(row.State)
		if err != nil {
			return err
		}
		ribbon := ribbons[row.Run]
		ribbon.States += state.Glyph()
		var took float64
		if row.Started.Valid {
			end := now
			if row.Ended.Valid {
				end = row.Ended.Time()
			}
			took = max(0, end.Sub(row.Started.Time()).Round(time.Millisecond).Seconds())
		}
		ribbon.Seconds = append(ribbon.Seconds, took)
	}
	return nil
}

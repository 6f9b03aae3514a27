package api

import (
	"context"
	"encoding/json"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"wiselantern/client"
	"wiselantern/service/engine"
	"wiselantern/service/store"
)

// WatermarkPath names a watermark in an address.
type WatermarkPath struct {
	WorkflowPath
	Watermark string `path:"watermark" example:"last_key"`
}

func (a *API) watermarkRoutes(api huma.API) {
	route(api, http.MethodGet, "/api/workflows/{name}/watermarks", "list-watermarks", "Workflows", "List the values that a workflow keeps from run to run",
		func(ctx context.Context, in *WorkflowPath) (client.Watermarks, error) {
			return a.watermarks(ctx, in.Name)
		})
	route(api, http.MethodGet, "/api/workflows/{name}/watermarks/{watermark}", "watermark-history", "Workflows", "List what a watermark was, newest first",
		func(ctx context.Context, in *WatermarkPath) (list client.Watermarks, err error) {
			row, err := a.findWorkflow(ctx, in.Name)
			if err != nil {
				return list, err
			}
			rows, err := a.Store.WatermarkHistory(ctx, row.ID, in.Watermark, 200)
			list.Watermarks = make([]client.Watermark, len(rows))
			for i := 0; err == nil && i < len(rows); i++ {
				list.Watermarks[i], err = watermark(in.Name, rows[i])
			}
			return list, err
		})
	route(api, http.MethodPost, "/api/workflows/{name}/watermarks/{watermark}", "set-watermark", "Workflows", "Set a watermark by hand",
		func(ctx context.Context, in *struct {
			WatermarkPath
			Body client.WatermarkValue
		}) (list client.Watermarks, err error) {
			if err := a.Engine.SetWatermark(ctx, in.Name, in.Watermark, in.Body.Text, personOf(ctx)); err != nil {
				return list, err
			}
			return a.watermarks(ctx, in.Name)
		})
}

func watermark(workflow string, row store.Watermark) (one client.Watermark, err error) {
	one = client.Watermark{Name: row.Name, At: moment(row.At), Person: row.Person}
	if row.Number.Valid {
		one.Run = engine.RunName(workflow, int(row.Number.Int64))
	}
	return one, json.Unmarshal([]byte(row.Value), &one.Value)
}

func (a *API) watermarks(ctx context.Context, name string) (list client.Watermarks, err error) {
	row, err := a.findWorkflow(ctx, name)
	if err != nil {
		return list, err
	}
	d, err := a.definitionOf(ctx, row.ID, row.Version)
	if err != nil {
		return list, err
	}
	rows, err := a.Store.Watermarks(ctx, row.ID)
	if err != nil {
		return list, err
	}
	set := map[string]store.Watermark{}
	for _, r := range rows {
		set[r.Name] = r
	}
	list.Watermarks = []client.Watermark{}
	for _, m := range d.Watermarks {
		one := client.Watermark{Name: m.Name, Value: m.Initial}
		if r, ok := set[m.Name]; ok {
			if one, err = watermark(name, r); err != nil {
				return list, err
			}
		}
		one.About, one.Type = m.About, m.Type
		list.Watermarks = append(list.Watermarks, one)
	}
	return list, nil
}

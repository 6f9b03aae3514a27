package api

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"wiselantern/client"
	"wiselantern/core/definition"
	"wiselantern/service/engine"
)

func (a *API) capacityRoutes(api huma.API) {
	route(api, http.MethodGet, "/api/capacities", "list-capacities", "Capacities", "List all capacities", a.listCapacities)
	route(api, http.MethodPut, "/api/capacities/{name}", "set-capacity", "Capacities", "Say how many units of a capacity there are", a.setCapacity)
}

func (a *API) listCapacities(ctx context.Context, _ *nothing) (client.Capacities, error) {
	rows, err := a.Engine.Capacities(ctx)
	list := client.Capacities{Capacities: []client.Capacity{}}
	for _, row := range rows {
		list.Capacities = append(list.Capacities, client.Capacity(row))
	}
	return list, err
}

func (a *API) setCapacity(ctx context.Context, in *struct {
	Name string `path:"name" example:"warehouse"`
	Body client.CapacityUnits
}) (client.Capacity, error) {
	if !definition.IsName(in.Name) {
		return client.Capacity{}, &engine.RefusedError{Reason: fmt.Sprintf("%q cannot be the name of a capacity; write small letters, digits and -, beginning with a letter", in.Name)}
	}
	if err := a.Engine.SetCapacity(ctx, in.Name, in.Body.Units); err != nil {
		return client.Capacity{}, err
	}
	rows, err := a.Engine.Capacities(ctx)
	for _, row := range rows {
		if row.Name == in.Name {
			return client.Capacity(row), err
		}
	}
	return client.Capacity{}, err
}

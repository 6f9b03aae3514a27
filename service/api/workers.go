package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"wiselantern/client"
	"wiselantern/service/dispatch"
	"wiselantern/service/engine"
)

// Crew is who may work, and who is to rest.
type Crew interface {
	Admit(ctx context.Context, name, person string) (client.Admitted, error)
	Dismiss(ctx context.Context, name string) error
	Drain(name string, on bool) error
}

func (a *API) workerRoutes(api huma.API) {
	route(api, http.MethodPost, "/api/workers/{name}/admit", "admit-worker", "Watch", "Let a worker of another machine join; its credentials are told once", a.admitWorker)
	route(api, http.MethodPost, "/api/workers/{name}/dismiss", "dismiss-worker", "Watch", "Let a worker join no more", a.dismissWorker)
	route(api, http.MethodPost, "/api/workers/{name}/drain", "drain-worker", "Watch", "Have a worker take no more work; what it executes goes on", a.drainWorker)
	route(api, http.MethodPost, "/api/workers/{name}/resume", "resume-worker", "Watch", "Have a worker take work again", a.resumeWorker)
}

type workerNamed struct {
	Name string `path:"name" example:"field-1"`
}

func (a *API) admitWorker(ctx context.Context, in *workerNamed) (client.Admitted, error) {
	if err := dispatch.CheckName(in.Name); err != nil {
		return client.Admitted{}, &engine.RefusedError{Reason: err.Error()}
	}
	return a.Crew.Admit(ctx, in.Name, personOf(ctx))
}

func (a *API) dismissWorker(ctx context.Context, in *workerNamed) (client.Workers, error) {
	if err := refused(a.Crew.Dismiss(ctx, in.Name)); err != nil {
		return client.Workers{}, err
	}
	return a.listWorkers(ctx, nil)
}

func (a *API) drainWorker(ctx context.Context, in *workerNamed) (client.Workers, error) {
	if err := refused(a.Crew.Drain(in.Name, true)); err != nil {
		return client.Workers{}, err
	}
	return a.listWorkers(ctx, nil)
}

func (a *API) resumeWorker(ctx context.Context, in *workerNamed) (client.Workers, error) {
	if err := refused(a.Crew.Drain(in.Name, false)); err != nil {
		return client.Workers{}, err
	}
	return a.listWorkers(ctx, nil)
}

func refused(err error) error {
	if err == nil {
		return nil
	}
	return &engine.RefusedError{Reason: err.Error()}
}

package api

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v2"
	"golang.org/x/time/rate"

	"wiselantern/client"
	"wiselantern/core/definition"
	"wiselantern/core/match"
	"wiselantern/service/engine"
	"wiselantern/service/signals"
	"wiselantern/service/store"
)

// openHook is a hook that requests come to.
type openHook struct {
	signals.Hook
	created time.Time
	limit   *rate.Limiter
}

func (a *API) hookRoutes(api huma.API) {
	route(api, http.MethodGet, "/api/hooks", "list-hooks", "Events", "List all hooks", func(ctx context.Context, _ *nothing) (client.Hooks, error) {
		rows, err := a.Store.Hooks(ctx)
		list := client.Hooks{Hooks: []client.Hook{}}
		for _, row := range rows {
			one, err := shownHook(row)
			if err != nil {
				return list, err
			}
			list.Hooks = append(list.Hooks, one)
		}
		return list, err
	})
	route(api, http.MethodPut, "/api/hooks/{name}", "set-hook", "Events", "Make a hook, or make it anew with another secret", a.setHook)
	route(api, http.MethodDelete, "/api/hooks/{name}", "remove-hook", "Events", "Make the address of a hook worthless", func(ctx context.Context, in *struct {
		Name string `path:"name"`
	}) (struct{}, error) {
		if _, err := a.Store.Hook(ctx, in.Name); err != nil {
			return struct{}{}, a.unknownHook(ctx, in.Name, err)
		}
		return struct{}{}, a.Engine.Record(ctx, func(w *store.Writer) { w.RemoveHook(in.Name) })
	})
	a.app.Post("/api/hooks/:name", a.hooked)
	api.OpenAPI().AddOperation(&huma.Operation{OperationID: "knock", Method: http.MethodPost, Path: "/api/hooks/{name}", Tags: []string{"Events"}, Security: []map[string][]string{},
		Summary:     "Send what a hook makes an event of",
		Description: "Wants no token, but the signature of the hook: HMAC with SHA-256 in hexadecimal, over STAMP.BODY, with the time stamp in a header of its own.",
		Parameters:  []*huma.Param{{Name: "name", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}},
		RequestBody: &huma.RequestBody{Content: map[string]*huma.MediaType{"application/json": {Schema: &huma.Schema{}}}},
		Responses:   map[string]*huma.Response{"202": {Description: "Recorded"}},
	})
}

func shownHook(row store.Hook) (h client.Hook, err error) {
	var spec signals.Hook
	if err := json.Unmarshal([]byte(row.Spec), &spec); err != nil {
		return h, err
	}
	return client.Hook{Name: row.Name, Path: "/api/hooks/" + row.Name, SignatureHeader: spec.SignatureHeader, SignaturePrefix: spec.SignaturePrefix, TimeHeader: spec.TimeHeader,
		Tolerance: definition.Length(spec.Tolerance).String(), Map: spec.Map, PerSecond: spec.PerSecond, Created: moment(row.Created), CreatedBy: row.CreatedBy}, nil
}

func (a *API) unknownHook(ctx context.Context, name string, err error) error {
	if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	rows, err := a.Store.Hooks(ctx)
	if err != nil {
		return err
	}
	names := make([]string, len(rows))
	for i, r := range rows {
		names[i] = r.Name
	}
	return engine.Unknown("hook", name, names)
}

func (a *API) setHook(ctx context.Context, in *struct {
	Name string `path:"name"`
	Body client.HookSettings
}) (h client.Hook, err error) {
	hook := signals.Hook{Name: in.Name, Secret: rand.Text() + rand.Text(), SignatureHeader: in.Body.SignatureHeader, SignaturePrefix: in.Body.SignaturePrefix, TimeHeader: signals.StandardTimeHeader,
		Tolerance: signals.StandardTolerance, Map: in.Body.Map, PerSecond: in.Body.PerSecond}
	if in.Body.Secret != "" {
		hook.Secret = in.Body.Secret
	}
	if len(hook.Secret) < 16 {
		return h, &engine.RefusedError{Reason: "the secret has fewer than 16 letters; leave it out to have one made"}
	}
	if hook.SignatureHeader == "" {
		hook.SignatureHeader = signals.StandardSignatureHeader
	}
	if in.Body.TimeHeader != nil {
		hook.TimeHeader = *in.Body.TimeHeader
	}
	if in.Body.Tolerance != "" {
		length, err := definition.ParseLength(in.Body.Tolerance)
		if err != nil {
			return h, &engine.RefusedError{Reason: "the tolerance: " + err.Error()}
		}
		hook.Tolerance = length.Duration()
	}
	if hook.PerSecond == 0 {
		hook.PerSecond = signals.StandardPerSecond
	}
	if err := hook.Check(); err != nil {
		return h, &engine.RefusedError{Reason: err.Error()}
	}
	spec, err := json.Marshal(hook)
	if err != nil {
		return h, err
	}
	row := store.Hook{Name: in.Name, Secret: hook.Secret, Spec: string(spec), Created: store.At(time.Now()), CreatedBy: personOf(ctx)}
	if err := a.Engine.Record(ctx, func(w *store.Writer) { w.SetHook(row) }); err != nil {
		return h, err
	}
	if h, err = shownHook(row); err == nil {
		h.Secret = hook.Secret
	}
	return h, err
}

// hook is the hook of that name, compiled once.
func (a *API) hook(ctx context.Context, name string) (*openHook, error) {
	row, err := a.Store.Hook(ctx, name)
	if err != nil {
		return nil, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if known := a.hooks[name]; known != nil && known.created.Equal(row.Created.Time()) {
		return known, nil
	}
	h := &openHook{created: row.Created.Time()}
	if err := json.Unmarshal([]byte(row.Spec), &h.Hook); err != nil {
		return nil, err
	}
	h.Name, h.Secret = row.Name, row.Secret
	if err := h.Check(); err != nil {
		return nil, err
	}
	h.limit = rate.NewLimiter(rate.Limit(h.PerSecond), max(1, int(2*h.PerSecond)))
	a.hooks[name] = h
	return h, nil
}

// hooked takes in what is sent to a hook. What is refused is recorded with its
// reason; the sender is told too, for the secret alone opens the door.
func (a *API) hooked(c *fiber.Ctx) error {
	name := c.Params("name")
	h, err := a.hook(c.UserContext(), name)
	if errors.Is(err, store.ErrNotFound) {
		return fiber.NewError(http.StatusNotFound, "there is no such hook")
	}
	if err != nil {
		return problemOf(err)
	}
	body := c.Body()
	refuse := func(status int, reason string) error {
		return a.refuse(c.UserContext(), "hook "+name, len(body), status, reason)
	}
	if len(body) > signals.LongestHookBody {
		return refuse(http.StatusRequestEntityTooLarge, "it is over the limit of 1 MiB; send where the data is instead of the data")
	}
	if !h.limit.Allow() {
		c.Set(fiber.HeaderRetryAfter, "1")
		return refuse(http.StatusTooManyRequests, "more came than the hook lets in; send more slowly, or make the hook anew with a higher --per-second")
	}
	header := func(name string) string { return c.Get(name) }
	if err := h.Verify(header, body, time.Now()); err != nil {
		return refuse(http.StatusUnauthorized, err.Error())
	}
	headers := map[string]any{}
	for name, values := range c.GetReqHeaders() {
		headers[strings.ToLower(name)] = strings.Join(values, ", ")
	}
	one, err := h.Event(header, headers, body)
	if err != nil {
		return refuse(http.StatusUnprocessableEntity, err.Error())
	}
	received, err := a.Engine.Receive(c.UserContext(), []match.Event{one}, "hook "+name, "")
	var refused *engine.RefusedError
	if errors.As(err, &refused) {
		return refuse(http.StatusUnprocessableEntity, refused.Reason)
	}
	if err != nil {
		return problemOf(err)
	}
	return c.Status(http.StatusAccepted).JSON(client.EventReceived{Number: received[0].ID, ID: one.ID, Source: one.Source, Known: received[0].Known})
}

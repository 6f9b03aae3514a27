// Package api is the network interface: resources in JSON under /api, described
// by OpenAPI 3.1, problems as RFC 9457, the live streams, and the console.
//
// It may import core, client (for the shapes of the bodies) and its neighbours
// in service. What it keeps true: every route asks for the token or a session,
// except health and the sign-in exchange; the Host header is one of ours.
package api

import (
	"context"
	"database/sql"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"reflect"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humafiber"
	"github.com/gofiber/fiber/v2"
	"github.com/gofiber/fiber/v2/middleware/compress"
	"golang.org/x/time/rate"

	"wiselantern/client"
	"wiselantern/core/definition"
	"wiselantern/core/flow"
	"wiselantern/parcel"
	"wiselantern/service/access"
	"wiselantern/service/engine"
	"wiselantern/service/lookout"
	"wiselantern/service/store"
)

// Options are what the network interface leans on.
type Options struct {
	Engine   *engine.Engine
	Store    *store.Store
	Lookout  *lookout.Lookout
	Gate     *access.Gate
	Parcels  *Parcels
	Console  fs.FS
	Hosts    []string // names under which the service may be asked for, besides loopback
	Address  string   // where the reader finds the console, as in http://127.0.0.1:7640
	Version  string
	KeepLogs time.Duration // how long after its run ended a log is kept; 0 for ever
	PerHour  float64       // what an hour of processor time costs; 0 for nobody knows
	Crew     Crew
	Faults   func() []client.Fault // with what the service stands on
	Workers  func() []WorkerNow    // those that are there
	Log      *slog.Logger
}

// API answers requests.
type API struct {
	Options
	app         *fiber.App
	description *huma.OpenAPI
	closed      chan struct{} // closed when streams are to end

	mu       sync.Mutex
	versions map[[2]int64]defined
	hooks    map[string]*openHook

	refusals *rate.Limiter // of what is recorded of them
	tally    tally
}

// largestBody bounds the body of a request: a parcel with room around it.
const largestBody = parcel.MaxBytes + 8<<20

// New makes the network interface.
func New(o Options) *API {
	huma.DefaultArrayNullable = false // lists are empty, never null
	a := &API{Options: o, closed: make(chan struct{}), versions: map[[2]int64]defined{}, hooks: map[string]*openHook{}, refusals: rate.NewLimiter(20, 100)}
	a.app = fiber.New(fiber.Config{
		DisableStartupMessage: true,
		Immutable:             true, // values outlive their request in the engine
		UnescapePath:          true,
		BodyLimit:             largestBody,
		ReadTimeout:           30 * time.Second,
		IdleTimeout:           2 * time.Minute,
		ErrorHandler:          a.failed,
	})
	a.app.Use(a.onlyOurHosts, harden, a.admit, compress.New(compress.Config{Level: compress.LevelBestSpeed, Next: flows}))
	config := huma.DefaultConfig("Wise Lantern", o.Version)
	config.Info.Description = "Workflows of pipelines: define, start, watch, stop. Every call but health and the sign-in exchange wants the token as a bearer token, or the console's session."
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "/api/openapi", "", ""
	config.CreateHooks = nil
	config.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", schemaName)
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer"},
		"session": {Type: "apiKey", In: "cookie", Name: sessionCookie},
	}
	config.Security = []map[string][]string{{"token": {}}, {"session": {}}}
	routes := humafiber.New(a.app, config)
	a.description = routes.OpenAPI()
	a.workflowRoutes(routes)
	a.runRoutes(routes)
	a.upcomingRoutes(routes)
	a.backfillRoutes(routes)
	a.watermarkRoutes(routes)
	a.capacityRoutes(routes)
	a.workerRoutes(routes)
	a.eventRoutes(routes)
	a.hookRoutes(routes)
	a.waitRoutes(routes)
	a.datasetRoutes(routes)
	a.watchRoutes(routes)
	a.troubleRoutes(routes)
	a.compareRoutes(routes)
	a.accessRoutes(routes)
	a.streamRoutes()
	a.app.All("/api/*", func(c *fiber.Ctx) error {
		return fiber.NewError(http.StatusNotFound, "there is no "+c.Method()+" "+c.Path()+"; /api/openapi.json lists what there is")
	})
	a.app.Get("/*", a.console)
	return a
}

// schemaName keeps the shapes of definitions apart from those of the API.
func schemaName(t reflect.Type, hint string) string {
	name := huma.DefaultSchemaNamer(t, hint)
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	if strings.HasSuffix(t.PkgPath(), "core/definition") {
		return "Definition" + name
	}
	return name
}

// Description is the OpenAPI 3.1 document of the network interface, in JSON.
func Description() ([]byte, error) {
	return New(Options{Version: "0"}).description.MarshalJSON()
}

// flows tells whether an answer is one that goes on while it is read: packed, it would
// be kept back.
func flows(c *fiber.Ctx) bool {
	return strings.HasSuffix(c.Path(), "/stream") || strings.HasSuffix(c.Path(), "/raw") || c.Path() == "/api/backup"
}

// App is the Fiber application, to be listened with.
func (a *API) App() *fiber.App { return a.app }

// Close ends the live streams, so that the server can shut down.
func (a *API) Close() { close(a.closed) }

// failed answers with a problem what a route outside of huma returns.
func (a *API) failed(c *fiber.Ctx, err error) error {
	status := problemOf(err)
	var known *fiber.Error
	if errors.As(err, &known) {
		status = huma.NewError(known.Code, known.Message)
	}
	c.Status(status.GetStatus())
	return c.JSON(status, "application/problem+json")
}

// problemOf is the problem (RFC 9457) that an error is told as.
func problemOf(err error) huma.StatusError {
	var unknown *engine.UnknownError
	var refused *engine.RefusedError
	var problems definition.Problems
	var known huma.StatusError
	switch {
	case errors.As(err, &known):
		return known
	case errors.As(err, &unknown):
		return huma.Error404NotFound(err.Error())
	case errors.As(err, &refused):
		return huma.Error409Conflict(err.Error())
	case errors.As(err, &problems):
		details := make([]error, len(problems))
		for i, p := range problems {
			details[i] = &huma.ErrorDetail{Message: p.String(), Location: p.File, Value: p}
		}
		return huma.Error422UnprocessableEntity("the definition has mistakes; nothing was applied", details...)
	case errors.Is(err, access.ErrDenied):
		return huma.Error401Unauthorized("that opens nothing")
	case errors.Is(err, engine.ErrStopped):
		return huma.Error503ServiceUnavailable("the service is stopping; ask again when it is back")
	case errors.Is(err, context.Canceled):
		return huma.NewError(499, "the asker is gone")
	}
	return huma.Error503ServiceUnavailable("this could not be done, and nothing was changed: " + err.Error())
}

// route registers one operation whose answer is a JSON body.
func route[In, Out any](api huma.API, method, path, id, tag, summary string, do func(context.Context, *In) (Out, error)) {
	type answer struct{ Body Out }
	huma.Register(api, huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, Tags: []string{tag}, MaxBodyBytes: largestBody},
		func(ctx context.Context, in *In) (*answer, error) {
			out, err := do(ctx, in)
			if err != nil {
				return nil, problemOf(err)
			}
			return &answer{out}, nil
		})
}

// defined is what a version of a workflow says.
type defined struct {
	*definition.Workflow
	nodes []definition.Task
}

// name is the name of a task of a run, or of an item of it.
func (d defined) name(task int, itemOf, item sql.NullInt64) string {
	if itemOf.Valid {
		return flow.ItemName(d.nodes[itemOf.Int64].Name, int(item.Int64))
	}
	return d.nodes[task].Name
}

// definitionOf is a version of a workflow, which never changes.
func (a *API) definitionOf(ctx context.Context, workflow int64, number int) (defined, error) {
	key := [2]int64{workflow, int64(number)}
	a.mu.Lock()
	d := a.versions[key]
	a.mu.Unlock()
	if d.Workflow != nil {
		return d, nil
	}
	row, err := a.Store.Version(ctx, workflow, number)
	if err != nil {
		return d, err
	}
	if d.Workflow, err = decodeDefinition(row); err != nil {
		return d, err
	}
	d.nodes = d.Nodes()
	a.mu.Lock()
	defer a.mu.Unlock()
	if len(a.versions) > 1000 {
		clear(a.versions)
	}
	a.versions[key] = d
	return d, nil
}

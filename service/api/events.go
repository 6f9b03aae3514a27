package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"

	cloudevents "github.com/cloudevents/sdk-go/v2/event"
	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v2"
	"github.com/gofiber/fiber/v2/middleware/adaptor"

	"wiselantern/client"
	"wiselantern/core/match"
	"wiselantern/service/engine"
	"wiselantern/service/store"
)

// Limits of what is sent at once.
const (
	longestEvents = 8 << 20 // bytes
	mostEvents    = 1000
)

func (a *API) eventRoutes(api huma.API) {
	route(api, http.MethodGet, "/api/events", "list-events", "Events", "List events, newest first", a.listEvents)
	route(api, http.MethodGet, "/api/events/{number}", "show-event", "Events", "Show an event, and what it was taken for", a.showEvent)
	route(api, http.MethodGet, "/api/refusals", "list-refusals", "Events", "List what was refused at the door, newest first",
		func(ctx context.Context, _ *nothing) (client.Refusals, error) {
			rows, err := a.Store.Refusals(ctx, 200)
			list := client.Refusals{Refusals: []client.Refusal{}}
			for _, r := range rows {
				list.Refusals = append(list.Refusals, client.Refusal{At: r.At.Time(), Via: r.Via, Reason: r.Reason, Bytes: r.Bytes})
			}
			return list, err
		})
	a.app.Post("/api/events", a.receiveEvents) // in three modes that no schema of a body has
	received := api.OpenAPI().Components.Schemas.Schema(typeOf[client.EventsReceived](), true, "EventsReceived")
	object := &huma.Schema{Type: "object", AdditionalProperties: true}
	api.OpenAPI().AddOperation(&huma.Operation{OperationID: "send-events", Method: http.MethodPost, Path: "/api/events", Tags: []string{"Events"},
		Summary:     "Send events",
		Description: "As the HTTP protocol binding of CloudEvents 1.0 says: structured (application/cloudevents+json), in a batch (application/cloudevents-batch+json), or binary, with the attributes in ce- headers and the data as the body. Each event is answered once for its source and id. They are recorded when the answer comes.",
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
			"application/cloudevents+json":       {Schema: object},
			"application/cloudevents-batch+json": {Schema: &huma.Schema{Type: "array", Items: object}},
			"application/json":                   {Schema: &huma.Schema{}},
		}},
		Responses: map[string]*huma.Response{"202": {Description: "Recorded", Content: map[string]*huma.MediaType{"application/json": {Schema: received}}}},
	})
}

// receiveEvents takes events in, in each mode of the CloudEvents HTTP protocol
// binding 1.0 (section 3).
func (a *API) receiveEvents(c *fiber.Ctx) error {
	body := c.Body()
	refuse := func(status int, format string, args ...any) error {
		return a.refuse(c.UserContext(), "events from "+personOf(c.UserContext()), len(body), status, fmt.Sprintf(format, args...))
	}
	if len(body) > longestEvents {
		return refuse(http.StatusRequestEntityTooLarge, "the request has %d bytes, over the limit of %d; send where the data is instead of the data, or fewer events at once", len(body), longestEvents)
	}
	request, err := adaptor.ConvertRequest(c, false)
	if err != nil {
		return refuse(http.StatusBadRequest, "the request cannot be read: %v", err)
	}
	events, err := readEvents(request)
	if err != nil {
		return refuse(http.StatusUnprocessableEntity, "%v", err)
	}
	received, err := a.Engine.Receive(c.UserContext(), events, "api", personOf(c.UserContext()))
	var refused *engine.RefusedError
	if errors.As(err, &refused) {
		return refuse(http.StatusUnprocessableEntity, "%s", refused.Reason)
	}
	if err != nil {
		return problemOf(err)
	}
	answer := client.EventsReceived{Events: make([]client.EventReceived, len(events))}
	for i, r := range received {
		answer.Events[i] = client.EventReceived{Number: r.ID, ID: events[i].ID, Source: events[i].Source, Known: r.Known}
	}
	return c.Status(http.StatusAccepted).JSON(answer)
}

// readEvents reads the events of a request.
func readEvents(request *http.Request) (list []match.Event, err error) {
	kind := request.Header.Get("Content-Type")
	switch {
	case strings.HasPrefix(kind, "application/cloudevents-batch+json"):
		decoder := json.NewDecoder(request.Body)
		if err := decoder.Decode(&list); err != nil {
			return nil, fmt.Errorf("the batch is not a list of events in JSON: %w", err)
		}
		if len(list) == 0 || len(list) > mostEvents {
			return nil, fmt.Errorf("the batch has %d events; send 1 to %d", len(list), mostEvents)
		}
		for i, one := range list {
			if err := one.Problem(); err != nil {
				return nil, fmt.Errorf("event %d of the batch: %w; none of the batch was taken", i+1, err)
			}
		}
		return list, nil
	case strings.HasPrefix(kind, "application/cloudevents+json"):
		list = make([]match.Event, 1)
		if err := json.NewDecoder(request.Body).Decode(&list[0]); err != nil {
			return nil, fmt.Errorf("this is not an event in JSON: %w", err)
		}
		return list, nil
	case request.Header.Get("Ce-Id")+request.Header.Get("Ce-Type")+request.Header.Get("Ce-Source")+request.Header.Get("Ce-Specversion") == "":
		return nil, errors.New("this is no CloudEvent: send application/cloudevents+json, or the attributes as ce-id, ce-source, ce-type and ce-specversion; for a sender that cannot, make a hook (lantern hook add NAME)")
	}
	if version := request.Header.Get("Ce-Specversion"); version == "" {
		request.Header.Set("Ce-Specversion", "1.0")
	}
	read, err := cehttp.NewEventFromHTTPRequest(request)
	if err != nil {
		return nil, fmt.Errorf("this is not an event in binary mode: %w", err)
	}
	one, err := fromSDK(read)
	return []match.Event{one}, err
}

// fromSDK is an event of the CloudEvents SDK as ours.
func fromSDK(read *cloudevents.Event) (e match.Event, err error) {
	e = match.Event{ID: read.ID(), Source: read.Source(), Type: read.Type(), Subject: read.Subject(), DataType: read.DataContentType(), DataSchema: read.DataSchema()}
	if !read.Time().IsZero() {
		e.Time = read.Time().UTC()
	}
	for name, value := range read.Extensions() {
		if e.Extensions == nil {
			e.Extensions = map[string]string{}
		}
		e.Extensions[name] = fmt.Sprint(value)
	}
	data := read.Data()
	switch {
	case len(data) == 0:
	case e.DataType == "" || strings.Contains(e.DataType, "json"):
		if err := json.Unmarshal(data, &e.Data); err != nil {
			return e, fmt.Errorf("the data of the event is said to be %s and is not: %w", read.DataContentType(), err)
		}
	default:
		e.Data = strings.ToValidUTF8(string(data), "\ufffd")
	}
	return e, nil
}

// refuse records what was refused at the door, and answers with the problem.
func (a *API) refuse(ctx context.Context, via string, bytes, status int, reason string) error {
	if a.refusals.Allow() { // who knocks without end does not keep the records busy
		now := store.At(time.Now())
		if err := a.Engine.Record(ctx, func(w *store.Writer) {
			w.AddRefusal(store.Refusal{At: now, Via: via, Reason: reason, Bytes: bytes})
		}); err != nil {
			a.Log.Warn("a refusal cannot be recorded", "via", via, "reason", reason, "error", err)
		}
	}
	return fiber.NewError(status, reason)
}

func (a *API) listEvents(ctx context.Context, in *struct {
	Type     string `query:"type" example:"storm.*" doc:"Only of this type; one that ends with * means all that begin so"`
	Source   string `query:"source" doc:"Only from this source"`
	Subject  string `query:"subject" doc:"Only of this subject"`
	Unwanted bool   `query:"unwanted" doc:"Only those that nobody wanted"`
	Own      bool   `query:"own" doc:"Also what the service itself told"`
	Before   string `query:"before" doc:"The next of the page before"`
	Limit    int    `query:"limit" default:"50" minimum:"1" maximum:"500"`
}) (page client.Events, err error) {
	f := store.EventFilter{Type: in.Type, Source: in.Source, Subject: in.Subject, Unwanted: in.Unwanted, Own: in.Own || strings.HasPrefix(in.Type, "lantern."), Limit: in.Limit + 1}
	if in.Before != "" {
		if f.Before, err = strconv.ParseInt(in.Before, 10, 64); err != nil {
			return page, huma.Error422UnprocessableEntity("before is not the next of a page")
		}
	}
	rows, err := a.Store.Events(ctx, f)
	if err != nil {
		return page, err
	}
	if len(rows) > in.Limit {
		rows = rows[:in.Limit]
		page.Next = strconv.FormatInt(rows[in.Limit-1].ID, 10)
	}
	page.Events, err = a.eventsOf(ctx, rows)
	return page, err
}

// eventsOf adds to events, newest first, what they were taken for.
func (a *API) eventsOf(ctx context.Context, rows []store.Event) ([]client.Event, error) {
	list := make([]client.Event, len(rows))
	place := map[int64]int{}
	ids := make([]int64, len(rows))
	for i, r := range rows {
		list[i] = client.Event{Number: r.ID, Received: r.Received.Time(), Via: r.Via, Person: r.Person, Type: r.Type, Source: r.Source, Subject: r.Subject, ID: r.Event, Answers: []client.EventAnswer{}}
		if err := json.Unmarshal([]byte(r.Envelope), &list[i].Event); err != nil {
			return nil, err
		}
		place[r.ID], ids[i] = i, r.ID
	}
	if len(rows) == 0 {
		return list, nil
	}
	answers, err := a.Store.Answers(ctx, ids)
	if err != nil {
		return nil, err
	}
	for _, one := range answers {
		i := place[one.Event]
		answer := client.EventAnswer{State: one.State, Workflow: one.Name.String, Reason: one.Reason}
		if one.Run.Valid {
			answer.Run = engine.RunName(one.Name.String, int(one.Number.Int64))
		}
		if one.Task.Valid {
			if answer.Task, err = a.taskName(ctx, one.Of.Int64, int(one.Version.Int64), one.Run.Int64, int(one.Task.Int64)); err != nil {
				return nil, err
			}
		}
		list[i].Answers = append(list[i].Answers, answer)
	}
	return list, nil
}

// taskName is the name of a task, or an item, of a run.
func (a *API) taskName(ctx context.Context, workflow int64, version int, run int64, task int) (string, error) {
	d, err := a.definitionOf(ctx, workflow, version)
	if err != nil {
		return "", err
	}
	if task < len(d.nodes) {
		return d.nodes[task].Name, nil
	}
	row, _, err := a.Store.TaskWithAttempts(ctx, run, task)
	if err != nil {
		return "", err
	}
	return d.name(row.Task, row.ItemOf, row.Item), nil
}

func (a *API) showEvent(ctx context.Context, in *struct {
	Number int64 `path:"number"`
}) (client.Event, error) {
	row, err := a.Store.Event(ctx, in.Number)
	if errors.Is(err, store.ErrNotFound) {
		return client.Event{}, huma.Error404NotFound(fmt.Sprintf("there is no event %d; lantern events lists them", in.Number))
	}
	if err != nil {
		return client.Event{}, err
	}
	list, err := a.eventsOf(ctx, []store.Event{row})
	if err != nil {
		return client.Event{}, err
	}
	return list[0], nil
}

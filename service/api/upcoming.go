package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v2"

	"wiselantern/client"
	"wiselantern/core/definition"
	"wiselantern/service/engine"
)

// longestAhead is how far what is due may be asked for.
const longestAhead = 400 * 24 * time.Hour

func (a *API) upcomingRoutes(api huma.API) {
	route(api, http.MethodGet, "/api/upcoming", "list-upcoming", "Workflows", "List what is due next, soonest first", a.listUpcoming)
	route(api, http.MethodGet, "/api/upcoming/days", "list-upcoming-days", "Workflows", "Count what is due on each of the next days, by workflow", a.listUpcomingDays)
	route(api, http.MethodGet, "/api/workflows/{name}/decisions", "list-decisions", "Workflows", "List the due windows that got no run, and why, newest first", a.listDecisions)
	route(api, http.MethodPost, "/api/feeds", "make-feed", "Workflows", "Make an address of the calendar of what is due, with a key of its own",
		func(ctx context.Context, _ *struct{}) (feed client.Feed, err error) {
			key, err := a.Gate.NewFeed(ctx, personOf(ctx))
			return client.Feed{Path: "/api/upcoming.ics?key=" + key}, err
		})
	route(api, http.MethodDelete, "/api/feeds", "remove-feeds", "Workflows", "Make all addresses of the calendar worthless",
		func(ctx context.Context, _ *struct{}) (struct{}, error) {
			return struct{}{}, a.Gate.CloseFeeds(ctx)
		})
	a.app.Get("/api/upcoming.ics", a.feed)
}

func (a *API) listUpcoming(ctx context.Context, in *struct {
	Workflow string `query:"workflow" doc:"Only of this workflow"`
	For      string `query:"for" default:"7d" doc:"How far ahead, as in 36h or 7d"`
	Limit    int    `query:"limit" default:"500" minimum:"1" maximum:"10000" doc:"At most so many of each workflow"`
}) (page client.UpcomingPage, err error) {
	ahead, err := definition.ParseLength(in.For)
	if err != nil || ahead.Duration() > longestAhead {
		return page, huma.Error422UnprocessableEntity(fmt.Sprintf("for is %q; write a length of time up to 400d, as in 7d", in.For))
	}
	all, more, err := a.Engine.Upcoming(ctx, in.Workflow, time.Now().Add(ahead.Duration()), in.Limit)
	page.More, page.Upcoming = more, []client.Upcoming{}
	for _, u := range all {
		page.Upcoming = append(page.Upcoming, upcoming(u))
	}
	return page, err
}

// mostInDays bounds how many starts of a workflow are counted: more than one a
// minute for a fortnight.
const mostInDays = 25_000

func (a *API) listUpcomingDays(ctx context.Context, in *struct {
	Zone string `query:"zone" default:"UTC" doc:"Where the days are those of the wall clock"`
	Days int    `query:"days" default:"7" minimum:"1" maximum:"14" doc:"How many, today among them"`
}) (page client.UpcomingDays, err error) {
	zone, err := time.LoadLocation(in.Zone)
	if err != nil {
		return page, huma.Error422UnprocessableEntity(fmt.Sprintf("there is no zone %q; write a name of the IANA time zone database", in.Zone))
	}
	today := time.Now().In(zone)
	day := func(n int) time.Time { return time.Date(today.Year(), today.Month(), today.Day()+n, 0, 0, 0, 0, zone) }
	page.Dates, page.Workflows = []string{}, []client.UpcomingWorkflow{}
	var ends []time.Time // of the days
	for n := range in.Days {
		page.Dates = append(page.Dates, day(n).Format(time.DateOnly))
		ends = append(ends, day(n+1))
	}
	begin, n := day(0), 0 // n is the day that is come to
	page.More, err = a.Engine.EachUpcoming(ctx, "", day(in.Days).Add(-1), mostInDays, func(u engine.Upcoming) {
		if last := len(page.Workflows) - 1; last < 0 || page.Workflows[last].Workflow != u.Workflow {
			page.Workflows = append(page.Workflows, client.UpcomingWorkflow{Workflow: u.Workflow, Paused: u.Paused, Days: make([]client.UpcomingDay, in.Days)})
			n = 0
		}
		if u.At.Before(begin) {
			return // it was due before today, and the workflow is paused
		}
		for !u.At.Before(ends[n]) {
			n++
		}
		one := &page.Workflows[len(page.Workflows)-1].Days[n]
		if one.Count++; one.Count <= 3 {
			one.First = append(one.First, u.At)
		}
		one.Last = u.At
	})
	return page, err
}

func upcoming(u engine.Upcoming) client.Upcoming {
	one := client.Upcoming{Workflow: u.Workflow, Due: u.At, Rule: u.Start.String(), Zone: u.Start.Zone, Paused: u.Paused}
	if !u.Window.End.IsZero() {
		one.Window = &client.Window{Start: u.Window.Start, End: u.Window.End}
	}
	return one
}

func (a *API) listDecisions(ctx context.Context, in *struct {
	WorkflowPath
	Limit int `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}) (page client.Decisions, err error) {
	row, err := a.findWorkflow(ctx, in.Name)
	if err != nil {
		return page, err
	}
	rows, err := a.Store.Decisions(ctx, row.ID, in.Limit)
	page.Decisions = []client.Decision{}
	for _, r := range rows {
		one := client.Decision{At: r.At.Time(), Kind: r.Kind, Reason: r.Reason, Count: r.Count, FirstDue: r.DueFirst.Time(), LastDue: r.DueLast.Time()}
		if r.WindowEnd.Valid {
			one.Window = &client.Window{Start: r.WindowStart.Time(), End: r.WindowEnd.Time()}
		}
		page.Decisions = append(page.Decisions, one)
	}
	return page, err
}

// feed is what is due in the next thirty days, as a calendar (RFC 5545), at most
// two hundred of each workflow.
func (a *API) feed(c *fiber.Ctx) error {
	ok, err := a.Gate.Feed(c.UserContext(), c.Query("key"))
	if err != nil {
		return err
	}
	if !ok {
		return denied(c, "this address of the calendar is not known; make one with lantern upcoming --feed")
	}
	all, _, err := a.Engine.Upcoming(c.UserContext(), "", time.Now().AddDate(0, 0, 30), 200)
	if err != nil {
		return err
	}
	cal := ics.NewCalendar()
	cal.SetProductId("-//Wise Lantern//Upcoming//EN")
	cal.SetName("Wise Lantern: upcoming")
	cal.SetMethod(ics.MethodPublish)
	for _, u := range all {
		event := cal.AddEvent(fmt.Sprintf("%s-%d@wise-lantern", u.Workflow, u.At.Unix()))
		event.SetDtStampTime(time.Now())
		event.SetStartAt(u.At)
		event.SetEndAt(u.At)
		event.SetSummary(u.Workflow)
		text := u.Start.String()
		if !u.Window.End.IsZero() {
			text = fmt.Sprintf("covers %s to %s; %s", u.Window.Start.Format("Mon 2 Jan 15:04"), u.Window.End.Format("Mon 2 Jan 15:04"), text)
		}
		if u.Paused {
			text = "The workflow is paused. " + text
		}
		event.SetDescription(text)
	}
	c.Set(fiber.HeaderContentType, "text/calendar; charset=utf-8")
	return c.SendString(cal.Serialize())
}

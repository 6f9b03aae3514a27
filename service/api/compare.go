package api

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"wiselantern/client"
	"wiselantern/core/definition"
	"wiselantern/core/expr"
	"wiselantern/core/forecast"
	"wiselantern/service/engine"
	"wiselantern/service/store"
)

func (a *API) compareRoutes(api huma.API) {
	route(api, http.MethodGet, "/api/runs/{run}/compare", "compare-runs", "Runs", "Set two runs of a workflow side by side", func(ctx context.Context, in *struct {
		RunPath
		With string `query:"with" required:"true" example:"gauge-hourly:411" doc:"The other run, the one that is called b"`
	}) (c client.Comparison, err error) {
		first, err := a.findRun(ctx, in.Run)
		if err != nil {
			return c, err
		}
		second, err := a.findRun(ctx, in.With)
		if err != nil {
			return c, err
		}
		if first.Workflow != second.Workflow {
			return c, &engine.RefusedError{Reason: fmt.Sprintf("%s and %s are runs of two workflows; choose two of one", engine.RunName(first.Name, first.Number), engine.RunName(second.Name, second.Number))}
		}
		return a.compare(ctx, first, second)
	})
	route(api, http.MethodGet, "/api/runs/{run}/forecast", "forecast", "Runs", "Tell how long a run and its tasks usually take, when they should end, and which tasks decide it",
		func(ctx context.Context, in *RunPath) (f client.Forecast, err error) {
			row, err := a.findRun(ctx, in.Run)
			if err != nil {
				return f, err
			}
			return a.forecast(ctx, row)
		})
	route(api, http.MethodGet, "/api/workflows/{name}/usual", "usual", "Workflows", "Tell how long runs of a workflow and its tasks usually take, and what they use",
		func(ctx context.Context, in *WorkflowPath) (f client.Forecast, err error) {
			workflow, err := a.findWorkflow(ctx, in.Name)
			if err != nil {
				return f, err
			}
			return a.usual(ctx, workflow.ID)
		})
	route(api, http.MethodGet, "/api/runs/{run}/given", "show-given", "Runs", "Tell what a task was given, or would be given now", func(ctx context.Context, in *struct {
		RunPath
		Task string `query:"task" required:"true" example:"load"`
	}) (given client.Given, err error) {
		row, err := a.findRun(ctx, in.Run)
		if err != nil {
			return given, err
		}
		o, err := a.Engine.Given(ctx, row, in.Task)
		if err != nil {
			return given, err
		}
		given = client.Given{Exec: o.Exec, Shell: o.Shell, Parcel: o.Parcel, Env: map[string]string{}}
		maps.Copy(given.Env, o.Env)
		for name, value := range o.Params {
			given.Env["LANTERN_PARAM_"+strings.ToUpper(name)] = value
		}
		for name, value := range o.Marks {
			given.Env["LANTERN_WATERMARK_"+strings.ToUpper(name)] = value
		}
		if !o.End.IsZero() {
			given.Env["LANTERN_WINDOW_START"], given.Env["LANTERN_WINDOW_END"] = o.Start.Format(time.RFC3339), o.End.Format(time.RFC3339)
		}
		given.Env["LANTERN_RUN"], given.Env["LANTERN_TASK"], given.Env["TRACEPARENT"] = o.RunName, o.TaskName, o.Trace
		return given, nil
	})
}

func usualOf(u forecast.Usual) client.Usual {
	return client.Usual{Count: u.Count, Shortest: u.Shortest.Seconds(), Median: u.Median.Seconds(), P95: u.P95.Seconds(), Longest: u.Longest.Seconds()}
}

// usual is how long runs of a workflow and its tasks usually take.
func (a *API) usual(ctx context.Context, workflow int64) (f client.Forecast, err error) {
	f = client.Forecast{Tasks: map[string]client.Usual{}, Ends: map[string]client.Ends{}, Critical: []string{}}
	known, err := a.Lookout.Usual(ctx, workflow)
	if err != nil {
		return f, err
	}
	if known.Run.Count > 0 {
		run := usualOf(known.Run)
		f.Run = &run
	}
	for name, t := range known.Tasks {
		one := usualOf(t.Usual)
		one.CPU, one.Peak = t.CPU.Seconds(), t.Peak
		f.Tasks[name] = one
	}
	return f, nil
}

func (a *API) forecast(ctx context.Context, row store.Run) (f client.Forecast, err error) {
	if f, err = a.usual(ctx, row.Workflow); err != nil {
		return f, err
	}
	going, err := a.Lookout.Going(ctx, row)
	if err != nil {
		return f, err
	}
	path := forecast.Critical(going.Tasks)
	if now := time.Now(); row.State == "running" {
		for i, t := range going.Tasks {
			if t.Settled || t.Started.IsZero() || going.Usuals[i].Count == 0 {
				continue
			}
			limit, ok := going.Usuals[i].FarLonger()
			f.Ends[going.Names[i]] = client.Ends{At: t.Started.Add(t.Usual).UTC(), Over: ok && now.Sub(t.Started) >= limit}
		}
		if f.Run != nil {
			rest := forecast.Expect(going.Tasks, now)
			end := rest.End.UTC().Truncate(time.Second)
			f.End, path = &end, rest.Path
		}
	}
	for _, i := range path {
		f.Critical = append(f.Critical, going.Names[i])
	}
	return f, nil
}

// compare sets two runs of a workflow side by side.
func (a *API) compare(ctx context.Context, first, second store.Run) (c client.Comparison, err error) {
	c = client.Comparison{Contrasts: []client.Contrast{}, Tasks: []client.ComparedTask{}}
	if c.A, err = a.folded(ctx, first); err != nil {
		return c, err
	}
	if c.B, err = a.folded(ctx, second); err != nil {
		return c, err
	}
	if c.Contrasts, err = a.contrasts(ctx, first, second, c.A, c.B); err != nil {
		return c, err
	}
	inB := map[string]*client.Task{}
	for i := range c.B.Tasks {
		inB[c.B.Tasks[i].Name] = &c.B.Tasks[i]
	}
	for i := range c.A.Tasks {
		ta := &c.A.Tasks[i]
		c.Tasks = append(c.Tasks, comparedTask(ta, inB[ta.Name]))
		delete(inB, ta.Name)
	}
	for i := range c.B.Tasks {
		if tb := &c.B.Tasks[i]; inB[tb.Name] != nil {
			c.Tasks = append(c.Tasks, comparedTask(nil, tb))
		}
	}
	c.Part, c.How = parting(c)
	c.A.Tasks, c.B.Tasks = nil, nil
	return c, nil
}

// contrasts are what two runs have differently, but for their tasks.
func (a *API) contrasts(ctx context.Context, first, second store.Run, sa, sb client.Run) ([]client.Contrast, error) {
	all := []client.Contrast{}
	if first.Version != second.Version {
		before, err := a.Store.Version(ctx, first.Workflow, first.Version)
		if err != nil {
			return nil, err
		}
		after, err := a.Store.Version(ctx, second.Workflow, second.Version)
		if err != nil {
			return nil, err
		}
		old, err := decodeDefinition(before)
		if err != nil {
			return nil, err
		}
		now, err := decodeDefinition(after)
		if err != nil {
			return nil, err
		}
		for _, d := range definition.Differences(old, now) {
			all = append(all, client.Contrast{Kind: "definition", Name: strings.TrimSpace(d.Part + " " + d.Key), Before: d.Before, After: d.After})
		}
		if before.Parcel != after.Parcel {
			all = append(all, client.Contrast{Kind: "code", Name: "folder of code", Before: short(before.Parcel), After: short(after.Parcel)})
		}
	}
	return append(all, objects("param", sa.Params, sb.Params)...), nil
}

func short(hash string) string { return hash[:min(len(hash), 12)] }

// objects are the differences of two objects, key by key.
func objects(kind string, before, after map[string]any) (all []client.Contrast) {
	keys := map[string]bool{}
	for k := range before {
		keys[k] = true
	}
	for k := range after {
		keys[k] = true
	}
	for _, k := range slices.Sorted(maps.Keys(keys)) {
		if from, to := valueText(before, k), valueText(after, k); from != to {
			all = append(all, client.Contrast{Kind: kind, Name: k, Before: from, After: to})
		}
	}
	return all
}

func valueText(object map[string]any, key string) string {
	value, there := object[key]
	if !there {
		return ""
	}
	if text, ok := value.(string); ok {
		return text
	}
	if _, isList := value.([]any); isList {
		text, _ := json.Marshal(value) // it came from JSON
		return string(text)
	}
	return expr.Text(value)
}

func comparedTask(ta, tb *client.Task) client.ComparedTask {
	c := client.ComparedTask{}
	if ta == nil {
		c.Name, c.BState, c.BSeconds = tb.Name, tb.State, took(tb)
		return c
	}
	c.Name, c.AState, c.ASeconds = ta.Name, ta.State, took(ta)
	if tb == nil {
		return c
	}
	c.BState, c.BSeconds = tb.State, took(tb)
	add := func(kind, before, after string) {
		c.Differs = append(c.Differs, client.Contrast{Kind: kind, Name: c.Name, Before: before, After: after})
	}
	if c.AState != c.BState {
		add("state", c.AState, c.BState)
	}
	for _, d := range objects("result", ta.Result, tb.Result) {
		d.Name = c.Name + "." + d.Name
		c.Differs = append(c.Differs, d)
	}
	if muchLonger(c.ASeconds, c.BSeconds) {
		add("duration", lengthOf(c.ASeconds), lengthOf(c.BSeconds))
	}
	if len(ta.Attempts) > 0 && len(tb.Attempts) > 0 {
		la, lb := ta.Attempts[len(ta.Attempts)-1], tb.Attempts[len(tb.Attempts)-1]
		if la.Worker != lb.Worker && la.Worker != "" && lb.Worker != "" {
			add("worker", la.Worker, lb.Worker)
		}
		if la.Peak > 0 && lb.Peak > 0 && muchLonger(float64(la.Peak)/1e6, float64(lb.Peak)/1e6) && max(la.Peak, lb.Peak) > 64<<20 {
			add("memory", fmt.Sprintf("%d MB", la.Peak>>20), fmt.Sprintf("%d MB", lb.Peak>>20))
		}
	}
	return c
}

// muchLonger tells whether two lengths differ by more than is usual for chance: by
// half of the shorter, and a second.
func muchLonger(a, b float64) bool { return math.Abs(a-b) > 1+math.Min(a, b)/2 }

// lengthOf is a number of seconds as people say it: to the millisecond under one,
// to a tenth under a minute.
func lengthOf(s float64) string {
	d := time.Duration(s * float64(time.Second))
	switch {
	case d < time.Second:
		d = d.Round(time.Millisecond)
	case d < time.Minute:
		return fmt.Sprintf("%.1fs", s)
	default:
		d = d.Round(time.Second)
	}
	return definition.Length(d).String()
}

func took(t *client.Task) float64 {
	if t.Started == nil || t.Ended == nil {
		return 0
	}
	return math.Max(0, t.Ended.Sub(*t.Started).Seconds())
}

// parting is the first task, in the order of the graph, at which two runs came out
// differently, and how; else the first that left another result.
func parting(c client.Comparison) (task, how string) {
	after := map[string][]client.Dependency{}
	for _, t := range c.B.Tasks {
		after[t.Name] = t.After
	}
	differs := map[string]bool{}
	for _, t := range c.Tasks {
		differs[t.Name] = t.AState != t.BState
	}
	for _, t := range c.Tasks {
		if !differs[t.Name] || slices.ContainsFunc(after[t.Name], func(d client.Dependency) bool { return differs[d.Task] }) {
			continue
		}
		switch {
		case t.AState == "":
			return t.Name, "it is only in the second"
		case t.BState == "":
			return t.Name, "it is only in the first"
		}
		return t.Name, fmt.Sprintf("%s in the first, %s in the second", t.AState, t.BState)
	}
	for _, t := range c.Tasks {
		for _, d := range t.Differs {
			if d.Kind == "result" {
				return t.Name, "it left another result"
			}
		}
	}
	return "", ""
}

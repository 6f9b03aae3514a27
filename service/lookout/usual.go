// Package lookout knows how long things usually take, and marks what is late.
//
// It may import core and service/store; the engine is given to it as what
// records that a run is late. What it keeps true: it reads beside the engine,
// never in its loop; it reads nothing while nothing changes and no moment that it
// has noted comes; and a run is marked late once.
package lookout

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"time"

	"wiselantern/core/definition"
	"wiselantern/core/forecast"
	"wiselantern/service/store"
)

// Of these many newest successes of a workflow, "usual" speaks; fewer where there
// are so many tasks that reading them would take long.
const (
	mostRuns  = 50
	mostTasks = 50_000 // rows that are read for one workflow
)

// Usual is how long runs of a workflow and their tasks usually take.
type Usual struct {
	Run   forecast.Usual
	Tasks map[string]Task // by name
}

// Task is how long a task usually takes and what it uses.
type Task struct {
	forecast.Usual
	CPU  time.Duration // the median
	Peak int64         // bytes, the most
}

// Lookout answers what is usual, and marks what is late while Run runs.
type Lookout struct {
	store  *store.Store
	engine Engine
	now    func() time.Time

	mu       sync.Mutex
	known    map[int64]*remembered
	versions map[[2]int64]*version

	checks checks // of Run alone
}

// remembered is what was found for a workflow, and with which newest success.
type remembered struct {
	usual  *Usual
	newest int64 // the run
	at     time.Time
}

// version is what of a version is needed here.
type version struct {
	names []string
	after [][]int
	nodes int
}

// New makes a lookout. The engine may be nil if Run is never called.
func New(s *store.Store, engine Engine, now func() time.Time) *Lookout {
	return &Lookout{store: s, engine: engine, now: now, known: map[int64]*remembered{}, versions: map[[2]int64]*version{}}
}

// fresh is how long what was found is not looked at again.
const fresh = 10 * time.Second

// Usual is how long runs of that workflow usually take, by the newest that
// succeeded.
func (o *Lookout) Usual(ctx context.Context, workflow int64) (*Usual, error) {
	o.mu.Lock()
	r := o.known[workflow]
	o.mu.Unlock()
	now := o.now()
	if r != nil && now.Sub(r.at) < fresh && !now.Before(r.at) {
		return r.usual, nil
	}
	successes, err := o.store.Successes(ctx, workflow, mostRuns)
	if err != nil {
		return nil, err
	}
	var newest int64
	if len(successes) > 0 {
		newest = successes[0].ID
	}
	if r == nil || r.newest != newest {
		usual, err := o.read(ctx, workflow, successes)
		if err != nil {
			return nil, err
		}
		r = &remembered{usual: usual, newest: newest}
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.known[workflow] = &remembered{usual: r.usual, newest: newest, at: now}
	return r.usual, nil
}

func (o *Lookout) read(ctx context.Context, workflow int64, successes []store.Success) (*Usual, error) {
	usual := &Usual{Tasks: map[string]Task{}}
	if len(successes) == 0 {
		return usual, nil
	}
	var runs []time.Duration
	var ids []int64
	versions := map[int64]*version{}
	rows := 0
	for _, s := range successes {
		v, err := o.version(ctx, workflow, s.Version)
		if err != nil {
			return nil, err
		}
		if s.Started.Valid {
			runs = append(runs, s.Ended.Time().Sub(s.Started.Time()))
		}
		if rows += v.nodes; rows <= mostTasks || len(ids) < forecast.Enough {
			ids = append(ids, s.ID)
		}
		versions[s.ID] = v
	}
	usual.Run = forecast.Summarise(runs)
	took, err := o.store.TasksTook(ctx, ids)
	if err != nil {
		return nil, err
	}
	type samples struct {
		took, cpu []time.Duration
		peak      int64
	}
	tasks := map[string]*samples{}
	for _, t := range took {
		v := versions[t.Run]
		if t.Task >= len(v.names) {
			continue
		}
		s := tasks[v.names[t.Task]]
		if s == nil {
			s = &samples{}
			tasks[v.names[t.Task]] = s
		}
		s.took = append(s.took, time.Duration(t.Took)*time.Microsecond)
		s.cpu = append(s.cpu, time.Duration(t.CPU)*time.Microsecond)
		s.peak = max(s.peak, t.Peak)
	}
	for name, s := range tasks {
		usual.Tasks[name] = Task{Usual: forecast.Summarise(s.took), CPU: forecast.Summarise(s.cpu).Median, Peak: s.peak}
	}
	return usual, nil
}

func (o *Lookout) version(ctx context.Context, workflow int64, number int) (*version, error) {
	key := [2]int64{workflow, int64(number)}
	o.mu.Lock()
	v := o.versions[key]
	o.mu.Unlock()
	if v != nil {
		return v, nil
	}
	row, err := o.store.Version(ctx, workflow, number)
	if err != nil {
		return nil, err
	}
	var d definition.Workflow
	if err := json.Unmarshal([]byte(row.Definition), &d); err != nil {
		return nil, fmt.Errorf("version %d of workflow %d: %w", number, workflow, err)
	}
	v = shape(&d)
	o.mu.Lock()
	defer o.mu.Unlock()
	if len(o.versions) > 2000 {
		clear(o.versions)
	}
	o.versions[key] = v
	return v, nil
}

// shape is the graph of a workflow: its tasks, and those that each comes after.
func shape(d *definition.Workflow) *version {
	nodes := d.Nodes()
	v := &version{names: make([]string, len(nodes)), after: make([][]int, len(nodes)), nodes: len(nodes)}
	place := make(map[string]int, len(nodes))
	for i, n := range nodes {
		v.names[i], place[n.Name] = n.Name, i
	}
	for i, n := range nodes {
		for _, dep := range n.After {
			if at, ok := place[dep.Task]; ok {
				v.after[i] = append(v.after[i], at)
			}
		}
	}
	return v
}

// Going is what is known of an open run: its tasks in the order of its nodes, and
// how long they usually take.
func (o *Lookout) Going(ctx context.Context, row store.Run) (g forecast.Going, err error) {
	usual, err := o.Usual(ctx, row.Workflow)
	if err != nil {
		return g, err
	}
	v, err := o.version(ctx, row.Workflow, row.Version)
	if err != nil {
		return g, err
	}
	tasks, err := o.store.Nodes(ctx, row.ID)
	if err != nil {
		return g, err
	}
	g = forecast.Going{Started: row.Started.Time(), DueBy: row.DueBy.Time(), Usual: usual.Run, Names: v.names}
	for i, t := range tasks {
		if i >= len(v.names) {
			break
		}
		known := usual.Tasks[v.names[i]]
		g.Usuals = append(g.Usuals, known.Usual)
		g.Tasks = append(g.Tasks, forecast.Task{After: v.after[i], Settled: t.Ended.Valid, Started: t.Started.Time(), Ended: t.Ended.Time(), Usual: known.Median})
	}
	return g, nil
}

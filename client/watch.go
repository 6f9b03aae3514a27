package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// Usual says how long the recent successes of something took, and what they used.
type Usual struct {
	Count    int     `json:"count" doc:"Of so many successes"`
	Shortest float64 `json:"shortest_seconds"`
	Median   float64 `json:"median_seconds"`
	P95      float64 `json:"p95_seconds" doc:"95 of 100 were not longer"`
	Longest  float64 `json:"longest_seconds"`
	CPU      float64 `json:"cpu_seconds,omitempty" doc:"Processor time, the median"`
	Peak     int64   `json:"peak_bytes,omitempty" doc:"Memory, the most"`
}

// Used is what attempts have used, as the operating system tells it.
type Used struct {
	CPU  float64 `json:"cpu_seconds" doc:"Processor time"`
	Busy float64 `json:"busy_seconds" doc:"How long workers were at it"`
	Peak int64   `json:"peak_bytes" doc:"The most memory that one process had"`
}

// Late says since when something is late, and why.
type Late struct {
	Since  time.Time `json:"since"`
	Reason string    `json:"reason"`
}

// Forecast is what can be said of a run's time.
type Forecast struct {
	Run      *Usual           `json:"run,omitempty" doc:"How long runs of its workflow usually take"`
	Tasks    map[string]Usual `json:"tasks" doc:"And its tasks, by name"`
	End      *time.Time       `json:"end,omitempty" doc:"When it should end, if each task takes as long as usual"`
	Ends     map[string]Ends  `json:"ends" doc:"When its tasks that are going should end"`
	Critical []string         `json:"critical" doc:"The chain of tasks that decides when it ends, or that decided when it ended"`
}

// Ends is when a task that is going should end.
type Ends struct {
	At   time.Time `json:"at"`
	Over bool      `json:"over,omitempty" doc:"It takes far longer than usual"`
}

// Watch is what is going on, in one look.
type Watch struct {
	At       time.Time      `json:"at"`
	Running  WatchRuns      `json:"running"`
	Late     WatchRuns      `json:"late" doc:"Open runs that are late"`
	Datasets []Dataset      `json:"datasets" doc:"Data sets that are late"`
	Held     []Held         `json:"held" doc:"What needs a person, the longest first"`
	Failing  []Trouble      `json:"failing" doc:"Troubles that are open, the newest first"`
	Next     []Upcoming     `json:"next" doc:"What each workflow is due for next within a day, soonest first"`
	Numbers  Numbers        `json:"numbers"`
	Strip    Strip          `json:"strip"`
	Choices  WatchChoices   `json:"choices" doc:"What there is to filter by"`
	Problem  string         `json:"problem,omitempty" doc:"What is wrong with the service itself"`
	Counts   map[string]int `json:"counts" doc:"Of workflows: all, paused"`
}

// WatchRuns are some runs, and how many there are.
type WatchRuns struct {
	Total int   `json:"total"`
	Runs  []Run `json:"runs"`
}

// Held is a task that needs a person.
type Held struct {
	Run      string    `json:"run"`
	Workflow string    `json:"workflow"`
	Task     string    `json:"task"`
	Reason   string    `json:"reason"`
	Since    time.Time `json:"since"`
	Question *Question `json:"question,omitempty" doc:"Of a task that asks one"`
}

// Numbers are those of the last day and week, and of the ones before.
type Numbers struct {
	Day        PeriodNumbers `json:"day"`
	DayBefore  PeriodNumbers `json:"day_before"`
	Week       PeriodNumbers `json:"week"`
	WeekBefore PeriodNumbers `json:"week_before"`
}

// PeriodNumbers are those of the runs that ended in a stretch of time.
type PeriodNumbers struct {
	Succeeded   int     `json:"succeeded"`
	Failed      int     `json:"failed"`
	Stopped     int     `json:"stopped"`
	Used        Used    `json:"used"`
	DelayMedian float64 `json:"delay_median_seconds" doc:"How much later than they were due runs began"`
	DelayP95    float64 `json:"delay_p95_seconds"`
	Price       float64 `json:"price,omitempty" doc:"What that cost, if the service knows what an hour costs"`
}

// Strip is a stretch of time on which every run that ended is a mark.
type Strip struct {
	From      time.Time   `json:"from"`
	Step      float64     `json:"step_seconds" doc:"The length of one step"`
	Succeeded []int       `json:"succeeded" doc:"How many succeeded in each step"`
	Marks     []StripMark `json:"marks" doc:"Those that did not, newest first"`
	More      bool        `json:"more,omitempty" doc:"There are more that did not"`
}

// StripMark is a run on the strip.
type StripMark struct {
	Run   string    `json:"run"`
	State string    `json:"state" enum:"failed,stopped"`
	Ended time.Time `json:"ended"`
}

// WatchChoices are what there is to filter by.
type WatchChoices struct {
	Owners    []string `json:"owners"`
	Labels    []string `json:"labels"`
	Projects  []string `json:"projects"`
	Workflows []string `json:"workflows"`
}

// Trouble is failures that have the same cause, as far as their words tell.
type Trouble struct {
	Number     int64      `json:"number"`
	Workflow   string     `json:"workflow"`
	Task       string     `json:"task" doc:"Empty if the run failed as a whole"`
	Error      string     `json:"error" doc:"The newest"`
	Pattern    string     `json:"pattern" doc:"The error without what differs from run to run"`
	Hint       *Hint      `json:"hint,omitempty"`
	Opened     time.Time  `json:"opened"`
	Last       time.Time  `json:"last"`
	Count      int        `json:"count" doc:"How often the task failed of it"`
	Runs       int        `json:"runs" doc:"How many runs have not succeeded since"`
	Windows    int        `json:"windows" doc:"How many windows have no data because of it"`
	Earlier    int        `json:"earlier" doc:"How many troubles like it were there before"`
	TakenBy    string     `json:"taken_by,omitempty"`
	KnownUntil *time.Time `json:"known_until,omitempty" doc:"Nobody need look at it until then"`
	Closed     *time.Time `json:"closed,omitempty"`
	ClosedBy   string     `json:"closed_by,omitempty" doc:"Left out if its windows have succeeded"`
}

// Hint is what a failure is likely to come from.
type Hint struct {
	Kind  string `json:"kind"`
	Cause string `json:"cause"`
	Try   string `json:"try" doc:"What to do next"`
}

// Troubles is a listing of troubles.
type Troubles struct {
	Troubles []Trouble `json:"troubles"`
	Next     string    `json:"next,omitempty" doc:"Give it as before to get the next page of the closed ones"`
}

// TroubleStory is all that is known of a trouble.
type TroubleStory struct {
	Trouble
	Affected []Affected   `json:"affected" doc:"The tasks that failed of it, newest first"`
	More     bool         `json:"more,omitempty" doc:"There are more of them"`
	Attempt  int          `json:"attempt,omitempty" doc:"The attempt of the newest of them that failed"`
	LastGood *Run         `json:"last_good,omitempty" doc:"The last run of the workflow that succeeded before it was opened"`
	Changed  []Contrast   `json:"changed" doc:"What is different since"`
	Log      []Line       `json:"log" doc:"The lines of the newest failure that matter"`
	Words    []SaidOfThis `json:"words" doc:"What people have said, oldest first"`
}

// Affected is a task of a run that failed of a trouble.
type Affected struct {
	Run    string     `json:"run"`
	Task   string     `json:"task"`
	State  string     `json:"state" doc:"Of the run"`
	Window *Window    `json:"window,omitempty"`
	At     time.Time  `json:"at"`
	Mended *time.Time `json:"mended,omitempty" doc:"When its window succeeded"`
}

// SaidOfThis is what a person said of a trouble.
type SaidOfThis struct {
	At     time.Time `json:"at"`
	Person string    `json:"person"`
	Word   string    `json:"word"`
	Text   string    `json:"text,omitempty"`
}

// TroubleWord is a person's word about a trouble.
type TroubleWord struct {
	Word  string     `json:"word" enum:"take,leave,note,known,close"`
	Text  string     `json:"text,omitempty"`
	Until *time.Time `json:"until,omitempty" doc:"Of known"`
}

// TroubleRerun asks for the failed tasks of all runs of a trouble to be made again.
type TroubleRerun struct {
	DryRun   bool `json:"dry_run,omitempty" doc:"Only tell which"`
	Anew     bool `json:"anew,omitempty" doc:"Make new runs for the same windows instead, with the version that new runs take"`
	FollowOn bool `json:"follow_on,omitempty" doc:"And then what rested on them"`
}

// TroubleReruns tells what is made again.
type TroubleReruns struct {
	Reruns []TroubleRerunOf `json:"reruns"`
}

// TroubleRerunOf is what is made again of one run.
type TroubleRerunOf struct {
	Run string `json:"run"`
	Rerun
	Anew    string `json:"anew,omitempty" doc:"The new run"`
	Refused string `json:"refused,omitempty" doc:"Why nothing of it is made again"`
}

// Contrast is one thing that two runs have differently.
type Contrast struct {
	Kind   string `json:"kind" enum:"definition,code,param,worker,duration,memory,result,state,lines"`
	Name   string `json:"name,omitempty"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// Comparison sets two runs of a workflow side by side.
type Comparison struct {
	A         Run            `json:"a"`
	B         Run            `json:"b"`
	Contrasts []Contrast     `json:"contrasts" doc:"What they have differently, tasks left out"`
	Tasks     []ComparedTask `json:"tasks" doc:"In the order of the graph"`
	Part      string         `json:"part,omitempty" doc:"The first task at which they part"`
	How       string         `json:"how,omitempty" doc:"And how"`
}

// ComparedTask is a task in both runs; a state is empty where there is no such task.
type ComparedTask struct {
	Name     string     `json:"name"`
	AState   string     `json:"a_state"`
	BState   string     `json:"b_state"`
	ASeconds float64    `json:"a_seconds"`
	BSeconds float64    `json:"b_seconds"`
	Differs  []Contrast `json:"differs,omitempty"`
}

// Given is what a task was given.
type Given struct {
	Exec   []string          `json:"exec,omitempty"`
	Shell  string            `json:"shell,omitempty"`
	Env    map[string]string `json:"env" doc:"Secrets are hidden"`
	Parcel string            `json:"parcel,omitempty"`
}

// Worker is a process that executes attempts.
type Worker struct {
	Name     string            `json:"name"`
	Version  string            `json:"version"`
	Queues   []string          `json:"queues" doc:"The lines of work that it takes from"`
	Labels   map[string]string `json:"labels,omitempty"`
	Slots    int               `json:"slots" doc:"Attempts at once"`
	Since    time.Time         `json:"since" doc:"When it came"`
	Heard    time.Time         `json:"heard" doc:"When it was last heard of"`
	Silent   bool              `json:"silent,omitempty" doc:"It has not been heard for a while"`
	Draining bool              `json:"draining,omitempty" doc:"It takes no more work"`
	Load     float64           `json:"load" doc:"Of its machine, over the last minute"`
	CPUs     int               `json:"cpus"`
	Memory   int64             `json:"memory_bytes" doc:"Of its machine, in use"`
	Total    int64             `json:"memory_total_bytes"`
	Does     []Does            `json:"does" doc:"What it executes, the longest first"`
}

// Does is an attempt that a worker executes.
type Does struct {
	Run     string    `json:"run"`
	Task    string    `json:"task"`
	Attempt int       `json:"attempt"`
	Started time.Time `json:"started"`
}

// Workers is the listing of all workers.
type Workers struct {
	Workers []Worker `json:"workers"`
	Ready   int      `json:"ready" doc:"Attempts that wait for a worker"`
}

// WorkflowUsage is what a workflow used, week by week.
type WorkflowUsage struct {
	Workflow string      `json:"workflow"`
	Weeks    []UsageWeek `json:"weeks" doc:"One for each of the weeks asked for, oldest first"`
}

// UsageWeek is what the runs used that ended in a week.
type UsageWeek struct {
	Runs int `json:"runs"`
	Used
	Price float64 `json:"price,omitempty"`
}

// Usage is what workflows used, the one that used most first.
type Usage struct {
	Weeks     []time.Time     `json:"weeks" doc:"When each week begins"`
	Workflows []WorkflowUsage `json:"workflows"`
	PerHour   float64         `json:"per_hour,omitempty" doc:"What an hour of processor time costs"`
}

// View is how a person has arranged a page.
type View struct {
	Body string `json:"body" maxLength:"4000" doc:"As the page writes it; empty for the order that it comes with"`
}

// Ribbon is how the tasks of a run came out, in the order of its definition.
type Ribbon struct {
	States  string    `json:"states" doc:"A glyph for each task"`
	Seconds []float64 `json:"seconds" doc:"How long each took"`
}

// WatchChoice narrows what is watched down; an empty field does not.
type WatchChoice struct {
	Owner, Label, Project string
	Workflows             []string
}

func (c WatchChoice) query() url.Values {
	query := url.Values{}
	for name, value := range map[string]string{"owner": c.Owner, "label": c.Label, "project": c.Project} {
		if value != "" {
			query.Set(name, value)
		}
	}
	if len(c.Workflows) > 0 {
		query.Set("workflow", strings.Join(c.Workflows, ","))
	}
	return query
}

// Watch tells what is going on, in one look.
func (c *Client) Watch(ctx context.Context, choice WatchChoice) (Watch, error) {
	return call[Watch](ctx, c, http.MethodGet, "/api/watch?"+choice.query().Encode(), nil)
}

// Troubles lists what is broken, or with closed what was.
func (c *Client) Troubles(ctx context.Context, choice WatchChoice, closed bool) ([]Trouble, error) {
	query := choice.query()
	query.Set("closed", strconv.FormatBool(closed))
	page, err := call[Troubles](ctx, c, http.MethodGet, "/api/troubles?"+query.Encode(), nil)
	return page.Troubles, err
}

// Trouble tells all that is known of a trouble.
func (c *Client) Trouble(ctx context.Context, number int64) (TroubleStory, error) {
	return call[TroubleStory](ctx, c, http.MethodGet, fmt.Sprintf("/api/troubles/%d", number), nil)
}

// SayOfTrouble says a person's word about a trouble.
func (c *Client) SayOfTrouble(ctx context.Context, number int64, said TroubleWord) (TroubleStory, error) {
	return call[TroubleStory](ctx, c, http.MethodPost, fmt.Sprintf("/api/troubles/%d/words", number), said)
}

// RerunTrouble makes the failed tasks of all runs of a trouble again.
func (c *Client) RerunTrouble(ctx context.Context, number int64, request TroubleRerun) ([]TroubleRerunOf, error) {
	all, err := call[TroubleReruns](ctx, c, http.MethodPost, fmt.Sprintf("/api/troubles/%d/rerun", number), request)
	return all.Reruns, err
}

// Compare sets two runs of a workflow side by side.
func (c *Client) Compare(ctx context.Context, first, second string) (Comparison, error) {
	return call[Comparison](ctx, c, http.MethodGet, "/api/runs/"+url.PathEscape(first)+"/compare?with="+url.QueryEscape(second), nil)
}

// Forecast tells how long a run and its tasks usually take, and when it should end.
func (c *Client) Forecast(ctx context.Context, run string) (Forecast, error) {
	return call[Forecast](ctx, c, http.MethodGet, "/api/runs/"+url.PathEscape(run)+"/forecast", nil)
}

// Usual tells how long runs of a workflow and its tasks usually take.
func (c *Client) Usual(ctx context.Context, workflow string) (Forecast, error) {
	return call[Forecast](ctx, c, http.MethodGet, "/api/workflows/"+url.PathEscape(workflow)+"/usual", nil)
}

// Given tells what a task was given, with its secrets hidden.
func (c *Client) Given(ctx context.Context, run, task string) (Given, error) {
	return call[Given](ctx, c, http.MethodGet, "/api/runs/"+url.PathEscape(run)+"/given?task="+url.QueryEscape(task), nil)
}

// Workers lists the workers and what they do.
func (c *Client) Workers(ctx context.Context) (Workers, error) {
	return call[Workers](ctx, c, http.MethodGet, "/api/workers", nil)
}

// Usage lists what workflows used in the last weeks.
func (c *Client) Usage(ctx context.Context, weeks int) (Usage, error) {
	return call[Usage](ctx, c, http.MethodGet, fmt.Sprintf("/api/usage?weeks=%d", weeks), nil)
}

// Admitted is what a worker of another machine needs to join.
type Admitted struct {
	Worker      string `json:"worker"`
	Address     string `json:"address" doc:"Where it joins, as in tls://service.example:7641"`
	Credentials string `json:"credentials" doc:"The text of its credentials file; told once"`
}

// Admit lets a worker of another machine join.
func (c *Client) Admit(ctx context.Context, worker string) (Admitted, error) {
	return call[Admitted](ctx, c, http.MethodPost, "/api/workers/"+url.PathEscape(worker)+"/admit", nil)
}

// Dismiss lets a worker join no more.
func (c *Client) Dismiss(ctx context.Context, worker string) (Workers, error) {
	return call[Workers](ctx, c, http.MethodPost, "/api/workers/"+url.PathEscape(worker)+"/dismiss", nil)
}

// Drain has a worker take no more work, or take it again.
func (c *Client) Drain(ctx context.Context, worker string, on bool) (Workers, error) {
	word := "resume"
	if on {
		word = "drain"
	}
	return call[Workers](ctx, c, http.MethodPost, "/api/workers/"+url.PathEscape(worker)+"/"+word, nil)
}

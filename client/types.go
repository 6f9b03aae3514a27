package client

import (
	"time"

	"wiselantern/core/definition"
)

// The bodies of the API, which service/api serves and -o json prints. All
// moments are RFC 3339 in UTC; a moment that has not come is left out.

// Window is the half-open stretch of time [start, end) whose data a run is for.
type Window struct {
	Start time.Time `json:"start"`
	End   time.Time `json:"end"`
}

// Run is one execution of a workflow.
type Run struct {
	ID        string         `json:"id" example:"gauge-hourly:412" doc:"NAME:NUMBER"`
	Workflow  string         `json:"workflow"`
	Number    int            `json:"number"`
	Version   int            `json:"version" doc:"The version of the definition that it is pinned to"`
	State     string         `json:"state" enum:"queued,running,succeeded,failed,stopped"`
	Attention bool           `json:"attention" doc:"Something in it is held or late"`
	Cause     string         `json:"cause" enum:"schedule,event,backfill,person,workflow"`
	CausedBy  string         `json:"caused_by" doc:"The time rule, or the person's name"`
	Window    *Window        `json:"window,omitempty"`
	Waits     string         `json:"waits,omitempty" doc:"What a queued run waits for; left out of listings"`
	Newer     string         `json:"newer,omitempty" doc:"The newest run for the same window, on which its data now rests; left out if that is this one, and of listings"`
	Due       *time.Time     `json:"due,omitempty"`
	Params    map[string]any `json:"params"`
	Created   time.Time      `json:"created"`
	Started   *time.Time     `json:"started,omitempty"`
	Ended     *time.Time     `json:"ended,omitempty"`
	Forgotten *time.Time     `json:"forgotten,omitempty" doc:"When its attempts and results were removed from the records, as they need not be kept any more"`
	DueBy     *time.Time     `json:"due_by,omitempty" doc:"When it should be done"`
	Late      *Late          `json:"late,omitempty" doc:"It was found to be late"`
	Used      *Used          `json:"used,omitempty" doc:"What its attempts have used; left out if nobody told"`
	Expected  *time.Time     `json:"expected,omitempty" doc:"When it should end, by how long runs of its workflow usually take; only on the Watch"`
	Ribbon    *Ribbon        `json:"ribbon,omitempty" doc:"Only where it was asked for"`
	Outer     string         `json:"outer,omitempty" doc:"The run whose task started it and waits for it"`
	Result    map[string]any `json:"result,omitempty" doc:"What it leaves for the task that started it"`
	FollowOn  []FollowOn     `json:"follow_on,omitempty" doc:"What became of the runs that were last to be made again after it; left out of listings"`
	Counts    map[string]int `json:"counts,omitempty" doc:"How many of its tasks are in each state, items left out"`
	Tasks     []Task         `json:"tasks,omitempty" doc:"Left out of listings"`
}

// Task is a task of a run.
type Task struct {
	Name     string         `json:"name"`
	About    string         `json:"about,omitempty"`
	Kind     string         `json:"kind"`
	After    []Dependency   `json:"after" doc:"The tasks that it comes after"`
	Within   []string       `json:"within,omitempty" doc:"The resources that are open while it is made"`
	Items    *ItemCounts    `json:"items,omitempty" doc:"Of a task that is made for each item of a list"`
	ItemOf   string         `json:"item_of,omitempty" doc:"Of an item: the task that it is one of"`
	Item     any            `json:"item,omitempty" doc:"Of an item: its value"`
	State    string         `json:"state" enum:"idle,ready,running,waiting,cooling,held,succeeded,failed,skipped,unreached,stopped"`
	Reason   string         `json:"reason,omitempty" doc:"Why it is in this state, where that is not plain"`
	Stopping bool           `json:"stopping,omitempty" doc:"It was asked to end and has not ended yet"`
	Wakes    *time.Time     `json:"wakes,omitempty" doc:"When the pause before the next attempt is over, or the time that it may wait"`
	Waits    string         `json:"waits,omitempty" doc:"What a ready task waits for"`
	Attempts []Attempt      `json:"attempts"`
	Started  *time.Time     `json:"started,omitempty"`
	Ended    *time.Time     `json:"ended,omitempty"`
	Result   map[string]any `json:"result,omitempty"`
	Error    string         `json:"error,omitempty" doc:"What went wrong in the last attempt"`
}

// ItemCounts are the items of a task: how many, and how many in each state.
type ItemCounts struct {
	Count  int            `json:"count"`
	Counts map[string]int `json:"counts"`
}

// Items is a part of the list of a task's items.
type Items struct {
	Items []Task `json:"items"`
	Next  *int   `json:"next,omitempty" doc:"Give it as from to get the next page; left out on the last"`
}

// Dependency is a task that another comes after.
type Dependency struct {
	Task   string `json:"task"`
	Expect string `json:"expect" example:"succeeded|skipped" doc:"How it is expected to come out"`
}

// Attempt is one try of a task.
type Attempt struct {
	Number   int          `json:"number"`
	State    string       `json:"state" enum:"sent,running,waiting,succeeded,failed,skipped,stopped,lost"`
	Run      string       `json:"run,omitempty" doc:"The run that it started"`
	Worker   string       `json:"worker,omitempty"`
	Started  *time.Time   `json:"started,omitempty"`
	Ended    *time.Time   `json:"ended,omitempty"`
	ExitCode *int         `json:"exit_code,omitempty"`
	Error    string       `json:"error,omitempty"`
	CPU      float64      `json:"cpu_seconds,omitempty" doc:"Processor time of its processes"`
	Peak     int64        `json:"peak_bytes,omitempty" doc:"The most memory that one of them had"`
	Late     []LateReport `json:"late,omitempty" doc:"Reports that came when it had been given up; they changed nothing"`
}

// LateReport is a report of an attempt that came when it had been given up.
type LateReport struct {
	Worker   string    `json:"worker"`
	State    string    `json:"state" doc:"How the attempt ended, as the worker saw it"`
	Ended    time.Time `json:"ended"`
	Received time.Time `json:"received"`
	ExitCode *int      `json:"exit_code,omitempty"`
	Error    string    `json:"error,omitempty"`
}

// Runs is one page of a listing, newest first.
type Runs struct {
	Runs []Run  `json:"runs"`
	Next string `json:"next,omitempty" doc:"Give it as before to get the next page; left out on the last"`
}

// Workflow is a workflow as it stands.
type Workflow struct {
	Name        string               `json:"name"`
	About       string               `json:"about,omitempty"`
	Owner       string               `json:"owner,omitempty"`
	Labels      []string             `json:"labels"`
	Version     int                  `json:"version"`
	Project     string               `json:"project,omitempty"`
	Environment string               `json:"environment,omitempty" doc:"The one of the project that it was applied for"`
	File        string               `json:"file,omitempty"`
	Applied     time.Time            `json:"applied"`
	AppliedBy   string               `json:"applied_by"`
	Tasks       int                  `json:"tasks" doc:"How many there are"`
	Starts      []string             `json:"starts" doc:"What makes runs of it, in words"`
	Paused      *Paused              `json:"paused,omitempty"`
	Removed     *Paused              `json:"removed,omitempty" doc:"It is there no more; its runs stay to be read"`
	Next        *time.Time           `json:"next,omitempty" doc:"When it is next due"`
	Open        int                  `json:"open" doc:"Runs that are queued or running"`
	Recent      []RunMark            `json:"recent" doc:"Its newest runs, newest first"`
	Definition  *definition.Workflow `json:"definition,omitempty" doc:"Left out of listings"`
}

// RunMark is a run in a row of others.
type RunMark struct {
	ID     string  `json:"id" example:"gauge-hourly:412"`
	State  string  `json:"state" enum:"queued,running,succeeded,failed,stopped"`
	Window *Window `json:"window,omitempty"`
}

// Version is one version of a workflow.
type Version struct {
	Number    int       `json:"number"`
	Current   bool      `json:"current" doc:"New runs take it"`
	Applied   time.Time `json:"applied"`
	AppliedBy string    `json:"applied_by"`
	File      string    `json:"file,omitempty"`
	Parcel    string    `json:"parcel,omitempty" doc:"The name of the folder of code"`
	Hash      string    `json:"hash" doc:"SHA-256 of what the definition says"`
}

// Upcoming is one start that will come due.
type Upcoming struct {
	Workflow string    `json:"workflow"`
	Due      time.Time `json:"due"`
	Window   *Window   `json:"window,omitempty" doc:"Left out if nothing comes before"`
	Rule     string    `json:"rule" doc:"The rule in words"`
	Zone     string    `json:"zone"`
	Paused   bool      `json:"paused,omitempty" doc:"The workflow is paused: what comes due is remembered"`
}

// UpcomingPage is what is due next, soonest first.
type UpcomingPage struct {
	Upcoming []Upcoming `json:"upcoming"`
	More     bool       `json:"more" doc:"There is more of some workflow than was asked for"`
}

// UpcomingDays counts what is due on each of a few days, by workflow.
type UpcomingDays struct {
	Dates     []string           `json:"dates" doc:"The days, as 2026-03-28"`
	Workflows []UpcomingWorkflow `json:"workflows" doc:"Those that are due on one of them, by name"`
	More      bool               `json:"more" doc:"There is more of some workflow than was counted"`
}

// UpcomingWorkflow is one workflow on these days.
type UpcomingWorkflow struct {
	Workflow string        `json:"workflow"`
	Paused   bool          `json:"paused,omitempty"`
	Days     []UpcomingDay `json:"days" doc:"One for each of the dates"`
}

// UpcomingDay is what is due on one day.
type UpcomingDay struct {
	Count int         `json:"count"`
	First []time.Time `json:"first,omitempty" doc:"The first three"`
	Last  time.Time   `json:"last,omitzero"`
}

// BackfillRequest asks for the windows of a past range to be worked through.
type BackfillRequest struct {
	Workflow  string            `json:"workflow"`
	From      string            `json:"from" example:"2026-03-01" doc:"A date, from its first moment, or a moment"`
	To        string            `json:"to" example:"2026-03-28" doc:"A date, to its last moment, or a moment, not included"`
	Zone      string            `json:"zone,omitempty" doc:"Whose dates these are; left out, that of the workflow's time rule"`
	Every     string            `json:"every,omitempty" doc:"Windows of that length, for a workflow without a time rule"`
	Only      string            `json:"only,omitempty" enum:"missing,failed,all" doc:"Which windows; left out, those without a run"`
	Order     string            `json:"order,omitempty" enum:"oldest,newest" doc:"Which first; left out, the oldest"`
	Days      []string          `json:"days,omitempty" doc:"Only windows that begin on these days of the week, as in mon-fri"`
	Months    []string          `json:"months,omitempty" doc:"Only windows that begin in these months, as in nov-feb"`
	Merge     string            `json:"merge,omitempty" doc:"Windows that follow each other are made one, up to that long"`
	AtOnce    int               `json:"at_once,omitempty" minimum:"0" maximum:"1000" doc:"Runs of it that may go at once, beside all others; left out, as many as the workflow lets, after all others"`
	StopAfter int               `json:"stop_after,omitempty" minimum:"0" doc:"It pauses when so many runs did not succeed"`
	Texts     map[string]string `json:"texts,omitempty" doc:"Params as text"`
	Tasks     []string          `json:"tasks,omitempty" doc:"These tasks alone"`
	DryRun    bool              `json:"dry_run,omitempty" doc:"Only tell what it would do"`
}

// Backfill works through the windows of a past range.
type Backfill struct {
	Number    int64          `json:"number,omitempty" doc:"Left out of a preview"`
	Workflow  string         `json:"workflow"`
	State     string         `json:"state" enum:"preview,running,paused,stopped,succeeded,failed"`
	Reason    string         `json:"reason,omitempty"`
	From      time.Time      `json:"from"`
	Until     time.Time      `json:"until" doc:"Not included"`
	Zone      string         `json:"zone"`
	Only      string         `json:"only"`
	Order     string         `json:"order"`
	AtOnce    int            `json:"at_once" doc:"Runs that may go at once; 0: as many as the workflow lets, after all others"`
	StopAfter int            `json:"stop_after,omitempty"`
	Tasks     []string       `json:"tasks,omitempty"`
	Params    map[string]any `json:"params,omitempty"`
	Created   *time.Time     `json:"created,omitempty"`
	CreatedBy string         `json:"created_by,omitempty"`
	Ended     *time.Time     `json:"ended,omitempty"`
	Windows   map[string]int `json:"windows,omitempty" doc:"Of a preview: how the windows of the range stand: missing, succeeded, failed, running"`
	Leaving   int            `json:"leaving,omitempty" doc:"Of a preview: windows that another backfill is about to make"`
	Runs      int            `json:"runs" doc:"How many it makes"`
	Chosen    int            `json:"chosen,omitempty" doc:"Of a preview: windows that they are for"`
	Counts    map[string]int `json:"counts,omitempty" doc:"Of its runs: waiting, running, succeeded, failed, stopped"`
	Each      float64        `json:"each_seconds,omitempty" doc:"What a run takes, by the median of the newest that succeeded"`
	Left      float64        `json:"left_seconds,omitempty" doc:"What is left takes about that long"`
	PerHour   float64        `json:"per_hour,omitempty" doc:"Runs that have ended an hour, since it was made"`
}

// Backfills is the listing of backfills, newest first.
type Backfills struct {
	Backfills []Backfill `json:"backfills"`
}

// BackfillWindow is a stretch of a backfill.
type BackfillWindow struct {
	Place   int    `json:"place"`
	Window  Window `json:"window"`
	Windows int    `json:"windows" doc:"Of the schedule that lie in it"`
	State   string `json:"state" enum:"waiting,running,succeeded,failed,stopped"`
	Run     string `json:"run,omitempty"`
}

// BackfillWindows is a part of a backfill's stretches, in the order in which they
// are worked through.
type BackfillWindows struct {
	Windows []BackfillWindow `json:"windows"`
	Next    *int             `json:"next,omitempty" doc:"Give it as from to get the next page; left out on the last"`
}

// BackfillWord directs a backfill.
type BackfillWord struct {
	Word string `json:"word" enum:"pause,resume,stop,retry" doc:"retry: make again what did not succeed"`
}

// Watermark is a value that a workflow keeps from run to run.
type Watermark struct {
	Name   string     `json:"name"`
	About  string     `json:"about,omitempty"`
	Type   string     `json:"type,omitempty"`
	Value  any        `json:"value"`
	At     *time.Time `json:"at,omitempty" doc:"When it was set; left out while it is the initial one"`
	Run    string     `json:"run,omitempty" doc:"The run that set it"`
	Person string     `json:"person,omitempty" doc:"Or the person"`
}

// Watermarks is a listing of watermarks, or of what one of them was, newest first.
type Watermarks struct {
	Watermarks []Watermark `json:"watermarks"`
}

// WatermarkValue sets a watermark.
type WatermarkValue struct {
	Text string `json:"text" doc:"Read by its type, as a param on a command line"`
}

// Decision tells of due windows that got no run, and why.
type Decision struct {
	At       time.Time `json:"at"`
	Kind     string    `json:"kind" enum:"missed,skipped"`
	Reason   string    `json:"reason"`
	Count    int       `json:"count" doc:"How many windows were decided alike"`
	FirstDue time.Time `json:"first_due"`
	LastDue  time.Time `json:"last_due"`
	Window   *Window   `json:"window,omitempty" doc:"From the first of them to the last"`
}

// Decisions is the listing of a workflow's decisions, newest first.
type Decisions struct {
	Decisions []Decision `json:"decisions"`
}

// Feed is the address of a calendar for calendar programs.
type Feed struct {
	Path string `json:"path" doc:"Behind the service's address; whoever has it reads the calendar"`
}

// Versions is the listing of a workflow's versions, newest first.
type Versions struct {
	Versions []Version `json:"versions"`
}

// UseVersion asks to go back to a version.
type UseVersion struct {
	Version int  `json:"version" minimum:"1"`
	DryRun  bool `json:"dry_run,omitempty" doc:"Only tell what would change"`
}

// Paused tells who paused a workflow, and when.
type Paused struct {
	Since time.Time `json:"since"`
	By    string    `json:"by"`
}

// Workflows is the listing of all workflows.
type Workflows struct {
	Workflows []Workflow `json:"workflows"`
}

// StartRequest asks for a run.
type StartRequest struct {
	Params  map[string]any            `json:"params,omitempty" doc:"Values in their JSON types"`
	Texts   map[string]string         `json:"texts,omitempty" doc:"Values as text, read by the type of their param"`
	Window  *Window                   `json:"window,omitempty"`
	Only    []string                  `json:"only,omitempty" doc:"These tasks alone; what comes before them is taken as having come out as they expect"`
	Results map[string]map[string]any `json:"results,omitempty" doc:"Results of tasks that are left out; of one made for each, an object whose results is a list"`
}

// StopRequest asks for the end of a run, or of one task of it.
type StopRequest struct {
	Task string `json:"task,omitempty" doc:"Leave it out to stop the run"`
}

// RerunRequest asks for tasks to be made again; exactly one of Failed, From and
// Only is given.
type RerunRequest struct {
	Failed bool              `json:"failed,omitempty" doc:"Those that failed, were unreached or were stopped"`
	From   []string          `json:"from,omitempty" doc:"These tasks and everything that comes after them"`
	Only   []string          `json:"only,omitempty" doc:"These tasks alone"`
	Texts  map[string]string `json:"texts,omitempty" doc:"Other params than the run had, as text"`
	DryRun bool              `json:"dry_run,omitempty" doc:"Only tell which tasks would be made again"`

	FollowOn bool `json:"follow_on,omitempty" doc:"Then make again what rested on them in the runs of other workflows, in order"`
}

// Rerun tells which tasks are made again.
type Rerun struct {
	Tasks    []string   `json:"tasks"`
	FollowOn []Follower `json:"follow_on,omitempty" doc:"The runs of other workflows that are made again after it, in order"`
}

// ReleaseRequest gives a person's word about a held task.
type ReleaseRequest struct {
	Task string `json:"task"`
	As   string `json:"as" enum:"succeeded,skipped,run"`
}

// ApplyRequest carries the files of a project.
type ApplyRequest struct {
	Files       []definition.File `json:"files"`
	Parcel      string            `json:"parcel,omitempty" doc:"The name of a parcel that was sent before"`
	DryRun      bool              `json:"dry_run,omitempty" doc:"Only tell what would change"`
	Environment string            `json:"environment,omitempty" doc:"One of the project's"`
}

// Applied tells what became of each workflow.
type Applied struct {
	Project     string           `json:"project,omitempty"`
	Environment string           `json:"environment,omitempty"`
	Workflows   []AppliedChange  `json:"workflows"`
	Capacities  []CapacityChange `json:"capacities,omitempty" doc:"Those that the environment sets to something else than they were"`
}

// CapacityChange is a capacity that is set by applying.
type CapacityChange struct {
	Name   string `json:"name"`
	Before int    `json:"before" doc:"0 if nobody had set it"`
	After  int    `json:"after"`
}

// AppliedChange is what applying did to one workflow.
type AppliedChange struct {
	Workflow    string                  `json:"workflow"`
	Change      string                  `json:"change" enum:"new,changed,same"`
	Version     int                     `json:"version"`
	Differences []definition.Difference `json:"differences,omitempty" doc:"What the definition says other than before"`
	Code        bool                    `json:"code,omitempty" doc:"The folder of code is another one"`
}

// Resumed tells what a workflow does after it was resumed.
type Resumed struct {
	Missed int `json:"missed" doc:"Due moments that came while it was paused, each of which makes a run; counted up to 1000"`
}

// Parcel is a folder of code that the service has.
type Parcel struct {
	Name  string `json:"name"`
	Files int    `json:"files"`
	Bytes int64  `json:"bytes"`
}

// Line is one line that a task printed.
type Line struct {
	Number int       `json:"number" doc:"Counted from 0 in the attempt"`
	At     time.Time `json:"at"`
	Stream string    `json:"stream" enum:"out,err"`
	Text   string    `json:"text" doc:"Without the line feed; bytes that are no UTF-8 are shown as U+FFFD"`
	Bytes  []byte    `json:"bytes,omitempty" doc:"The line as it was, in base64, where text cannot hold it"`
	Joined bool      `json:"joined,omitempty" doc:"The line is longer than a line may be here and goes on in the next"`
}

// Lines is a part of a log.
type Lines struct {
	Lines   []Line `json:"lines"`
	Total   int    `json:"total" doc:"Lines that the log has by now"`
	Open    bool   `json:"open" doc:"The attempt has not ended, so more may come"`
	Cleared string `json:"cleared,omitempty" doc:"It was removed, as logs are kept that long after their run has ended"`
	Next    *int   `json:"next,omitempty" doc:"Of a search: give it as from to go on; left out at the end"`
}

// Change is one change of a state, as the live stream tells it.
type Change struct {
	ID     int64     `json:"id"`
	Run    string    `json:"run"`
	Task   string    `json:"task,omitempty" doc:"Left out when the run itself changed"`
	At     time.Time `json:"at"`
	Before string    `json:"before"`
	After  string    `json:"after"`
	Reason string    `json:"reason,omitempty"`
	Person string    `json:"person,omitempty"`
}

// Changes is a part of a run's history.
type Changes struct {
	Changes []Change `json:"changes"`
}

// Capacity tells how a capacity stands.
type Capacity struct {
	Name    string `json:"name"`
	Units   int    `json:"units"`
	InUse   int    `json:"in_use"`
	Waiting int    `json:"waiting" doc:"Attempts that wait for it"`
	Set     bool   `json:"set" doc:"Somebody has said how many units there are; until then nobody gets any"`
}

// Capacities is the listing of all capacities.
type Capacities struct {
	Capacities []Capacity `json:"capacities"`
}

// CapacityUnits says how many units a capacity has.
type CapacityUnits struct {
	Units int `json:"units" minimum:"0" maximum:"1000000"`
}

// Health tells how the service is.
type Health struct {
	State   string     `json:"state" enum:"well,impaired,cannot record"`
	Error   string     `json:"error,omitempty"`
	Since   *time.Time `json:"since,omitempty"`
	Faults  []Fault    `json:"faults,omitempty" doc:"What is wrong with its machine or what it stands on, the oldest first"`
	Version string     `json:"version"`
}

// Fault is something that is wrong with what the service stands on.
type Fault struct {
	Of    string    `json:"of" example:"room"`
	Fault string    `json:"fault"`
	Do    string    `json:"do" doc:"What to do"`
	Since time.Time `json:"since"`
}

// Session tells who is signed in.
type Session struct {
	Person  string     `json:"person"`
	Expires *time.Time `json:"expires,omitempty"`
}

// SignIn exchanges a one-time code, or the token, for a session.
type SignIn struct {
	Code  string `json:"code,omitempty"`
	Token string `json:"token,omitempty"`
}

// SignInLink is an address that signs its reader in once.
type SignInLink struct {
	Link    string    `json:"link"`
	Expires time.Time `json:"expires"`
}

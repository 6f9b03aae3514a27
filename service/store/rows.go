package store

import "database/sql"

// The rows of lantern.db; what each column means stands in migrations/.

// Workflow is a row of workflows.
type Workflow struct {
	ID           int64  `db:"id"`
	Name         string `db:"name"`
	Version      int    `db:"version"`
	LastRun      int    `db:"last_run"`
	PausedAt     Moment `db:"paused_at"`
	PausedBy     string `db:"paused_by"`
	DecidedUntil Moment `db:"decided_until"`
	Covered      string `db:"covered"`
	Removed      Moment `db:"removed"`
	RemovedBy    string `db:"removed_by"`
}

// Decision is a row of decisions.
type Decision struct {
	ID          int64  `db:"id"`
	Workflow    int64  `db:"workflow"`
	At          Moment `db:"at"`
	Kind        string `db:"kind"`
	Reason      string `db:"reason"`
	Count       int    `db:"count"`
	DueFirst    Moment `db:"due_first"`
	DueLast     Moment `db:"due_last"`
	WindowStart Moment `db:"window_start"`
	WindowEnd   Moment `db:"window_end"`
}

// Version is a row of versions.
type Version struct {
	Workflow    int64  `db:"workflow"`
	Number      int    `db:"number"`
	Definition  string `db:"definition"`
	Hash        string `db:"hash"`
	Parcel      string `db:"parcel"`
	Project     string `db:"project"`
	Environment string `db:"environment"`
	File        string `db:"file"`
	Applied     Moment `db:"applied"`
	AppliedBy   string `db:"applied_by"`
}

// Run is a row of runs, with the name of its workflow where it was read.
type Run struct {
	ID           int64          `db:"id"`
	Workflow     int64          `db:"workflow"`
	Name         string         `db:"name"`
	Number       int            `db:"number"`
	Version      int            `db:"version"`
	State        string         `db:"state"`
	Stopping     bool           `db:"stopping"`
	Attention    bool           `db:"attention"`
	Cause        string         `db:"cause"`
	CausedBy     string         `db:"caused_by"`
	OuterRun     sql.NullInt64  `db:"outer_run"`
	OuterTask    sql.NullInt64  `db:"outer_task"`
	OuterAttempt sql.NullInt64  `db:"outer_attempt"`
	Result       sql.NullString `db:"result"`
	WindowStart  Moment         `db:"window_start"`
	WindowEnd    Moment         `db:"window_end"`
	Due          Moment         `db:"due"`
	Newest       bool           `db:"newest"`
	Backfill     sql.NullInt64  `db:"backfill"`
	Params       string         `db:"params"`
	Watermarks   string         `db:"watermarks"`
	Created      Moment         `db:"created"`
	Started      Moment         `db:"started"`
	Deadline     Moment         `db:"deadline"`
	Ended        Moment         `db:"ended"`
	DueBy        Moment         `db:"due_by"`
	Late         Moment         `db:"late"`
	LateReason   string         `db:"late_reason"`
	CPU          int64          `db:"cpu"`  // microseconds
	Busy         int64          `db:"busy"` // microseconds
	Peak         int64          `db:"peak"` // bytes
	Forgotten    Moment         `db:"forgotten"`
	Counts       sql.NullString `db:"counts"` // of tasks by state, a JSON object; NULL if they must be counted
}

// Task is a row of tasks.
type Task struct {
	Run      int64         `db:"run"`
	Task     int           `db:"task"`
	State    string        `db:"state"`
	Attempts int           `db:"attempts"`
	Before   int           `db:"before"`
	Lost     int           `db:"lost"`
	Stopping bool          `db:"stopping"`
	Reason   string        `db:"reason"`
	Chosen   string        `db:"chosen"`
	Cleared  bool          `db:"cleared"`
	Items    int           `db:"items"`
	ItemOf   sql.NullInt64 `db:"item_of"`
	Item     sql.NullInt64 `db:"item"`
	Value    string        `db:"value"`
	Wake     Moment        `db:"wake"`
	Started  Moment        `db:"started"`
	Ended    Moment        `db:"ended"`
}

// Attempt is a row of attempts.
type Attempt struct {
	Run      int64          `db:"run"`
	Task     int            `db:"task"`
	Number   int            `db:"number"`
	State    string         `db:"state"`
	Worker   string         `db:"worker"`
	Sent     Moment         `db:"sent"`
	Started  Moment         `db:"started"`
	Ended    Moment         `db:"ended"`
	ExitCode sql.NullInt64  `db:"exit_code"`
	Error    string         `db:"error"`
	Result   sql.NullString `db:"result"`
	InnerRun sql.NullInt64  `db:"inner_run"`
	CPU      sql.NullInt64  `db:"cpu"`  // microseconds
	Peak     sql.NullInt64  `db:"peak"` // bytes
}

// The states of an attempt that is open.
const (
	AttemptSent    = "sent"
	AttemptRunning = "running"
	AttemptWaiting = "waiting"
)

// AttemptFailed is the state of one that failed.
const AttemptFailed = "failed"

// IsOpen tells whether the attempt has not ended.
func (a Attempt) IsOpen() bool {
	return a.State == AttemptSent || a.State == AttemptRunning || a.State == AttemptWaiting
}

// Transition is a row of transitions, with what names its run where it was read.
type Transition struct {
	ID     int64         `db:"id"`
	Run    int64         `db:"run"`
	Task   sql.NullInt64 `db:"task"`
	At     Moment        `db:"at"`
	Before string        `db:"before"`
	After  string        `db:"after"`
	Reason string        `db:"reason"`
	Person string        `db:"person"`

	Workflow int64         `db:"workflow"`
	Name     string        `db:"name"`
	Number   int           `db:"number"`
	Version  int           `db:"version"`
	ItemOf   sql.NullInt64 `db:"item_of"` // of an item: the task that it is one of
	Item     sql.NullInt64 `db:"item"`
}

// Capacity is a row of capacities.
type Capacity struct {
	Name  string `db:"name"`
	Units int    `db:"units"`
}

// Feed is a row of feeds.
type Feed struct {
	Hash    string `db:"hash"`
	Person  string `db:"person"`
	Created Moment `db:"created"`
}

// Session is a row of sessions.
type Session struct {
	Hash    string `db:"hash"`
	Person  string `db:"person"`
	Created Moment `db:"created"`
	Expires Moment `db:"expires"`
}

// Backfill is a row of backfills.
type Backfill struct {
	ID         int64  `db:"id"`
	Workflow   int64  `db:"workflow"`
	State      string `db:"state"`
	Reason     string `db:"reason"`
	RangeFrom  Moment `db:"range_from"`
	RangeUntil Moment `db:"range_until"`
	Asked      string `db:"asked"`
	AtOnce     int    `db:"at_once"`
	StopAfter  int    `db:"stop_after"`
	Total      int    `db:"total"`
	Created    Moment `db:"created"`
	CreatedBy  string `db:"created_by"`
	Ended      Moment `db:"ended"`

	Name string `db:"name"` // of the workflow, where it was read
}

// BackfillWindow is a row of backfill_windows.
type BackfillWindow struct {
	Backfill    int64         `db:"backfill"`
	Place       int           `db:"place"`
	WindowStart Moment        `db:"window_start"`
	WindowEnd   Moment        `db:"window_end"`
	Windows     int           `db:"windows"`
	State       string        `db:"state"`
	Run         sql.NullInt64 `db:"run"`
	Number      sql.NullInt64 `db:"number"` // of the run, where it was read
}

// The states of a window of a backfill that has not ended; those of one that has
// are those of its run.
const (
	WindowWaiting = "waiting"
	WindowRunning = "running"
)

// Watermark is a row of watermarks.
type Watermark struct {
	ID       int64         `db:"id"`
	Workflow int64         `db:"workflow"`
	Name     string        `db:"name"`
	Value    string        `db:"value"`
	At       Moment        `db:"at"`
	Run      sql.NullInt64 `db:"run"`
	Person   string        `db:"person"`
	Number   sql.NullInt64 `db:"number"` // of the run, where it was read
}

// LateReport is a report of an attempt that had been given up before.
type LateReport struct {
	Run      int64         `db:"run"`
	Task     int           `db:"task"`
	Attempt  int           `db:"attempt"`
	Worker   string        `db:"worker"`
	State    string        `db:"state"`
	Started  Moment        `db:"started"`
	Ended    Moment        `db:"ended"`
	ExitCode sql.NullInt64 `db:"exit_code"`
	Error    string        `db:"error"`
	Received Moment        `db:"received"`
}

// WorkerKey is a worker of another machine that may join.
type WorkerKey struct {
	Name      string `db:"name"`
	PublicKey string `db:"public_key"`
	Created   Moment `db:"created"`
	CreatedBy string `db:"created_by"`
}

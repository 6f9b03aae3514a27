package store

import (
	"context"
	"database/sql"

	"github.com/jmoiron/sqlx"
)

// Event is a row of events.
type Event struct {
	ID       int64  `db:"id"`
	Source   string `db:"source"`
	Event    string `db:"event"`
	Type     string `db:"type"`
	Subject  string `db:"subject"`
	Received Moment `db:"received"`
	Via      string `db:"via"`
	Person   string `db:"person"`
	Envelope string `db:"envelope"`
}

// Answer is a row of answers, with the name and number of its run and the name of
// its workflow where it was read for people.
type Answer struct {
	ID       int64          `db:"id"`
	Event    int64          `db:"event"`
	Workflow sql.NullInt64  `db:"workflow"`
	Start    string         `db:"start"`
	Run      sql.NullInt64  `db:"run"`
	Task     sql.NullInt64  `db:"task"`
	Attempt  sql.NullInt64  `db:"attempt"`
	State    string         `db:"state"`
	Reason   string         `db:"reason"`
	At       Moment         `db:"at"`
	Name     sql.NullString `db:"name"`
	Number   sql.NullInt64  `db:"number"`
	Of       sql.NullInt64  `db:"of"`      // the workflow of the run
	Version  sql.NullInt64  `db:"version"` // of the run
}

// The states of an answer.
const (
	AnswerRun       = "run"       // it made a run
	AnswerWait      = "wait"      // it released a wait
	AnswerGathering = "gathering" // it waits for others to make a run with
	AnswerKept      = "kept"      // its workflow is paused
	AnswerNone      = "none"      // it came to nothing, for the reason
)

// Refusal is a row of refusals.
type Refusal struct {
	ID     int64  `db:"id"`
	At     Moment `db:"at"`
	Via    string `db:"via"`
	Reason string `db:"reason"`
	Bytes  int    `db:"bytes"`
}

// Hook is a row of hooks.
type Hook struct {
	Name      string `db:"name"`
	Secret    string `db:"secret"`
	Spec      string `db:"spec"`
	Created   Moment `db:"created"`
	CreatedBy string `db:"created_by"`
}

// Connection is a row of connections.
type Connection struct {
	Name    string `db:"name"`
	Address string `db:"address"`
}

// Wait is a row of waits.
type Wait struct {
	Run     int64          `db:"run"`
	Task    int            `db:"task"`
	Attempt int            `db:"attempt"`
	Place   int            `db:"place"`
	State   string         `db:"state"`
	Spec    string         `db:"spec"`
	Since   Moment         `db:"since"`
	Came    Moment         `db:"came"`
	Result  sql.NullString `db:"result"`
	Reason  string         `db:"reason"`
}

// Update is a row of updates, with the name and number of its run where it was read
// for people.
type Update struct {
	ID          int64          `db:"id"`
	Dataset     string         `db:"dataset"`
	Event       int64          `db:"event"`
	Run         sql.NullInt64  `db:"run"`
	Task        sql.NullInt64  `db:"task"`
	Attempt     sql.NullInt64  `db:"attempt"`
	WindowStart Moment         `db:"window_start"`
	WindowEnd   Moment         `db:"window_end"`
	At          Moment         `db:"at"`
	Info        string         `db:"info"`
	Name        sql.NullString `db:"name"`
	Number      sql.NullInt64  `db:"number"`
	Of          sql.NullInt64  `db:"of"`
	Version     sql.NullInt64  `db:"version"`
	Source      string         `db:"source"`
}

// Use is a row of uses, with the name and number of its run.
type Use struct {
	Update  int64  `db:"dataset_update"`
	Run     int64  `db:"run"`
	Task    int    `db:"task"`
	At      Moment `db:"at"`
	Name    string `db:"name"`
	Number  int    `db:"number"`
	Of      int64  `db:"of"`
	Version int    `db:"version"`
}

// Seen is a row of seen.
type Seen struct {
	Workflow int64  `db:"workflow"`
	Dataset  string `db:"dataset"`
	Update   int64  `db:"dataset_update"`
}

// Rest is a row of rests.
type Rest struct {
	Run      int64  `db:"run"`
	Task     int    `db:"task"`
	FromRun  int64  `db:"from_run"`
	FromTask int    `db:"from_task"`
	Kind     string `db:"kind"`
}

// FollowOn is a row of follow_ons.
type FollowOn struct {
	ID     int64  `db:"id"`
	Origin int64  `db:"origin"`
	Run    int64  `db:"run"`
	Tasks  string `db:"tasks"`
	After  string `db:"after"`
	Person string `db:"person"`
	At     Moment `db:"at"`
	State  string `db:"state"`
	Reason string `db:"reason"`
}

// AddEvent records an event, once, and tells its number; isNew is false if it was
// there.
func (w *Writer) AddEvent(row Event) (id int64, isNew bool) {
	id, isNew = w.insert(`INSERT INTO events (source, event, type, subject, received, via, person, envelope) VALUES (?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`,
		row.Source, row.Event, row.Type, row.Subject, row.Received, row.Via, row.Person, row.Envelope)
	if !isNew {
		id = 0
		w.get(&id, `SELECT id FROM events WHERE source = ? AND event = ?`, row.Source, row.Event)
	}
	return id, isNew
}

// AddAnswer records what an event was taken for; isNew is false if the same start
// has answered it before.
func (w *Writer) AddAnswer(row Answer) (id int64, isNew bool) {
	return w.insert(`INSERT INTO answers (event, workflow, start, run, task, attempt, state, reason, at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`,
		row.Event, row.Workflow, row.Start, row.Run, row.Task, row.Attempt, row.State, row.Reason, row.At)
}

// SetAnswer records what has become of an answer.
func (w *Writer) SetAnswer(row Answer) {
	w.exec(`UPDATE answers SET run = ?, state = ?, reason = ? WHERE id = ?`, row.Run, row.State, row.Reason, row.ID)
}

// EventsSince are events of a type that came in since then, oldest first, as of the
// transaction: at most limit of those behind the one with the number after. A type
// that ends with * means all that begin so; a subject that is not empty is exact.
func (w *Writer) EventsSince(kind, subject string, since Moment, after int64, limit int) (rows []Event) {
	const rest = ` AND received >= ? AND id > ? AND ? IN ('', subject) ORDER BY id LIMIT ?`
	if before, open := cutStar(kind); open {
		w.all(&rows, `SELECT * FROM events WHERE type >= ? AND type < ?`+rest, before, before+"\U0010ffff", since, after, subject, limit)
	} else {
		w.all(&rows, `SELECT * FROM events INDEXED BY events_by_time WHERE type = ?`+rest, kind, since, after, subject, limit)
	}
	return rows
}

func cutStar(kind string) (before string, open bool) {
	if n := len(kind); n > 0 && kind[n-1] == '*' {
		return kind[:n-1], true
	}
	return kind, false
}

// AddRefusal records what was refused at the door, and forgets the oldest.
func (w *Writer) AddRefusal(row Refusal) {
	id := w.exec(`INSERT INTO refusals (at, via, reason, bytes) VALUES (?, ?, ?, ?)`, row.At, row.Via, row.Reason, row.Bytes)
	w.exec(`DELETE FROM refusals WHERE id <= ?`, id-mostRefusals)
}

// mostRefusals bounds the list: who knocks for ever does not fill the disk.
const mostRefusals = 10_000

// SetHook records a hook.
func (w *Writer) SetHook(row Hook) {
	w.exec(`INSERT INTO hooks (name, secret, spec, created, created_by) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET secret = excluded.secret, spec = excluded.spec, created = excluded.created, created_by = excluded.created_by`,
		row.Name, row.Secret, row.Spec, row.Created, row.CreatedBy)
}

// RemoveHook forgets a hook.
func (w *Writer) RemoveHook(name string) { w.exec(`DELETE FROM hooks WHERE name = ?`, name) }

// SetConnection records the address of a connection.
func (w *Writer) SetConnection(row Connection) {
	w.exec(`INSERT INTO connections (name, address) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET address = excluded.address`, row.Name, row.Address)
}

// RemoveConnection forgets a connection.
func (w *Writer) RemoveConnection(name string) {
	w.exec(`DELETE FROM connections WHERE name = ?`, name)
}

// WaitAttempt records that an attempt is parked.
func (w *Writer) WaitAttempt(run int64, task, number int, at Moment) {
	w.exec(`UPDATE attempts SET state = 'waiting', started = ? WHERE run = ? AND task = ? AND number = ? AND state = 'sent'`, at, run, task, number)
}

// AddWait records one thing that a parked attempt waits for.
func (w *Writer) AddWait(row Wait) {
	w.exec(`INSERT INTO waits (run, task, attempt, place, state, spec, since) VALUES (?, ?, ?, ?, ?, ?, ?)`, row.Run, row.Task, row.Attempt, row.Place, row.State, row.Spec, row.Since)
}

// SetWait records what has become of it.
func (w *Writer) SetWait(row Wait) {
	w.exec(`UPDATE waits SET state = ?, came = ?, result = ?, reason = ? WHERE run = ? AND task = ? AND attempt = ? AND place = ?`,
		row.State, row.Came, row.Result, row.Reason, row.Run, row.Task, row.Attempt, row.Place)
}

// EndWaits records that an attempt waits no more.
func (w *Writer) EndWaits(run int64, task, attempt int) {
	w.exec(`UPDATE waits SET state = 'over' WHERE run = ? AND task = ? AND attempt = ? AND state = 'waiting'`, run, task, attempt)
}

// AddUpdate records an update of a data set and returns its number.
func (w *Writer) AddUpdate(row Update) int64 {
	return w.exec(`INSERT INTO updates (dataset, event, run, task, attempt, window_start, window_end, at, info) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		row.Dataset, row.Event, row.Run, row.Task, row.Attempt, row.WindowStart, row.WindowEnd, row.At, row.Info)
}

// UpdatesIn are the updates of a data set for windows that overlap this one, in
// their order, as of the transaction.
func (w *Writer) UpdatesIn(dataset string, start, end Moment) (rows []Update) {
	w.all(&rows, selectUpdates+`WHERE u.dataset = ? AND u.window_end > ? AND u.window_start < ? ORDER BY u.window_start, u.id`, dataset, start, end)
	return rows
}

// UpdatesSince is the newest update of a data set since then, as of the transaction,
// or with noWindow the newest of those for no window.
func (w *Writer) UpdatesSince(dataset string, since Moment, noWindow bool) (rows []Update) {
	w.all(&rows, selectUpdates+`WHERE u.dataset = ? AND u.at >= ? AND (u.window_end IS NULL OR NOT ?) ORDER BY u.at DESC, u.id DESC LIMIT 1`, dataset, since, noWindow)
	return rows
}

// UpdateOfEvent is the update that an event told.
func (w *Writer) UpdateOfEvent(event int64) (row Update, found bool) {
	var rows []Update
	w.all(&rows, selectUpdates+`WHERE u.event = ? LIMIT 1`, event)
	if len(rows) == 0 {
		return row, false
	}
	return rows[0], true
}

const selectUpdates = `SELECT u.*, w.name, r.number, r.workflow AS "of", r.version, e.source FROM updates u JOIN events e ON e.id = u.event LEFT JOIN runs r ON r.id = u.run LEFT JOIN workflows w ON w.id = r.workflow `

// AddUse records that a run, or a task of it, rests on an update.
func (w *Writer) AddUse(row Use) {
	w.exec(`INSERT INTO uses (dataset_update, run, task, at) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING`, row.Update, row.Run, row.Task, row.At)
}

// SetSeen records what of a data set a workflow has seen.
func (w *Writer) SetSeen(row Seen) {
	w.exec(`INSERT INTO seen (workflow, dataset, dataset_update) VALUES (?, ?, ?) ON CONFLICT (workflow, dataset) DO UPDATE SET dataset_update = excluded.dataset_update`,
		row.Workflow, row.Dataset, row.Update)
}

// AddRest records what a task rests on in the run of another workflow.
func (w *Writer) AddRest(row Rest) {
	w.exec(`INSERT INTO rests (run, task, from_run, from_task, kind) VALUES (?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`, row.Run, row.Task, row.FromRun, row.FromTask, row.Kind)
}

// RestingOn lists what rests on a run, as of the transaction.
func (w *Writer) RestingOn(run int64) (rows []Rest) {
	w.all(&rows, `SELECT * FROM rests WHERE from_run = ? ORDER BY run, task`, run)
	return rows
}

// RunNumbered is the id of a run, 0 if there is none, as of the transaction.
func (w *Writer) RunNumbered(workflow string, n int) int64 {
	var ids []int64
	w.all(&ids, `SELECT r.id FROM runs r JOIN workflows w ON w.id = r.workflow WHERE w.name = ? AND r.number = ?`, workflow, n)
	if len(ids) == 0 {
		return 0
	}
	return ids[0]
}

// Decided is what was decided about a due window that got no run, as of the
// transaction.
func (w *Writer) Decided(workflow int64, start, end Moment) (row Decision, found bool) {
	var rows []Decision
	w.all(&rows, `SELECT * FROM decisions WHERE workflow = ? AND window_end >= ? AND window_start <= ? ORDER BY id DESC LIMIT 1`, workflow, end, start)
	if len(rows) == 0 {
		return row, false
	}
	return rows[0], true
}

// AddFollowOn records that a run is to be made again later.
func (w *Writer) AddFollowOn(row FollowOn) int64 {
	return w.exec(`INSERT INTO follow_ons (origin, run, tasks, after, person, at, state) VALUES (?, ?, ?, ?, ?, ?, ?)`, row.Origin, row.Run, row.Tasks, row.After, row.Person, row.At, row.State)
}

// SetFollowOn records what has become of it.
func (w *Writer) SetFollowOn(row FollowOn) {
	w.exec(`UPDATE follow_ons SET after = ?, state = ?, reason = ? WHERE id = ?`, row.After, row.State, row.Reason, row.ID)
}

// RemoveWorkflow records that a workflow is there no more, or with a NULL moment
// that it is again.
func (w *Writer) RemoveWorkflow(id int64, at Moment, by string) {
	w.exec(`UPDATE workflows SET removed = ?, removed_by = ? WHERE id = ?`, at, by, id)
}

const selectAnswers = `SELECT a.*, w.name, r.number, r.workflow AS "of", r.version FROM answers a LEFT JOIN runs r ON r.id = a.run LEFT JOIN workflows w ON w.id = coalesce(r.workflow, a.workflow) `

// EventFilter chooses events; a zero field does not restrict.
type EventFilter struct {
	Type     string // exactly, or its beginning with * behind it
	Source   string
	Subject  string
	Unwanted bool // only those that nobody wanted
	Own      bool // also what the service itself told
	Before   int64
	Limit    int
}

// Events lists the events that the filter chooses, newest first.
func (s *Store) Events(ctx context.Context, f EventFilter) ([]Event, error) {
	query, args := `SELECT * FROM events WHERE (? = 0 OR id < ?)`, []any{f.Before, f.Before}
	if before, open := cutStar(f.Type); open {
		query, args = query+` AND type >= ? AND type < ?`, append(args, before, before+"\U0010ffff")
	} else if f.Type != "" {
		query, args = query+` AND type = ?`, append(args, f.Type)
	}
	if f.Source != "" {
		query, args = query+` AND source = ?`, append(args, f.Source)
	}
	if f.Subject != "" {
		query, args = query+` AND subject = ?`, append(args, f.Subject)
	}
	if f.Unwanted {
		query += ` AND NOT EXISTS (SELECT 1 FROM answers WHERE answers.event = events.id)`
	}
	if !f.Own {
		query += ` AND via != 'service'`
	}
	order := ` ORDER BY id DESC LIMIT ?`
	if f.Type != "" { // along the index of its type; events come in in the order of their numbers
		order = ` ORDER BY received DESC, id DESC LIMIT ?`
	}
	return many[Event](ctx, s.read, query+order, append(args, f.Limit)...)
}

// Event is the event with that number.
func (s *Store) Event(ctx context.Context, id int64) (Event, error) {
	return one[Event](ctx, s.read, `SELECT * FROM events WHERE id = ?`, id)
}

// Answers lists what these events were taken for.
func (s *Store) Answers(ctx context.Context, events []int64) ([]Answer, error) {
	query, args, err := sqlx.In(selectAnswers+`WHERE a.event IN (?) ORDER BY a.id`, events)
	if err != nil {
		return nil, err
	}
	return many[Answer](ctx, s.read, query, args...)
}

// OpenAnswers lists the events that wait for others, or for their workflow, to make
// a run.
func (s *Store) OpenAnswers(ctx context.Context) ([]Answer, error) {
	return many[Answer](ctx, s.read, selectAnswers+`WHERE a.state IN ('gathering', 'kept') ORDER BY a.id`)
}

// EventsOfRun lists the events that made a run, oldest first.
func (s *Store) EventsOfRun(ctx context.Context, run int64) ([]Event, error) {
	return many[Event](ctx, s.read, `SELECT e.* FROM answers a JOIN events e ON e.id = a.event WHERE a.run = ? AND a.state = 'run' ORDER BY e.id`, run)
}

// Refusals lists what was refused at the door, newest first.
func (s *Store) Refusals(ctx context.Context, limit int) ([]Refusal, error) {
	return many[Refusal](ctx, s.read, `SELECT * FROM refusals ORDER BY id DESC LIMIT ?`, limit)
}

// Hooks lists all hooks by name.
func (s *Store) Hooks(ctx context.Context) ([]Hook, error) {
	return many[Hook](ctx, s.read, `SELECT * FROM hooks ORDER BY name`)
}

// Hook is the hook of that name.
func (s *Store) Hook(ctx context.Context, name string) (Hook, error) {
	return one[Hook](ctx, s.read, `SELECT * FROM hooks WHERE name = ?`, name)
}

// Connections lists all connections by name.
func (s *Store) Connections(ctx context.Context) ([]Connection, error) {
	return many[Connection](ctx, s.read, `SELECT * FROM connections ORDER BY name`)
}

// OpenWaits lists what parked attempts wait for.
func (s *Store) OpenWaits(ctx context.Context) ([]Wait, error) {
	return many[Wait](ctx, s.read, `SELECT w.* FROM attempts a INDEXED BY attempts_open JOIN waits w ON w.run = a.run AND w.task = a.task AND w.attempt = a.number WHERE a.ended IS NULL AND a.state = 'waiting' ORDER BY w.run, w.task, w.place`)
}

// NewestUpdates lists the newest update of each data set.
func (s *Store) NewestUpdates(ctx context.Context) ([]Update, error) {
	// From name to name along the index, not through all updates.
	return many[Update](ctx, s.read, `WITH RECURSIVE names (name) AS (SELECT min(dataset) FROM updates
		UNION ALL SELECT (SELECT min(dataset) FROM updates WHERE dataset > name) FROM names WHERE name IS NOT NULL) `+
		selectUpdates+`WHERE u.id IN (SELECT (SELECT max(id) FROM updates WHERE dataset = name) FROM names WHERE name IS NOT NULL) ORDER BY u.dataset`)
}

// Updates lists the updates of a data set, newest first.
func (s *Store) Updates(ctx context.Context, dataset string, before int64, limit int) ([]Update, error) {
	return many[Update](ctx, s.read, selectUpdates+`WHERE u.dataset = ? AND (? = 0 OR u.id < ?) ORDER BY u.id DESC LIMIT ?`, dataset, before, before, limit)
}

// CountUpdates counts the updates of each data set since then.
func (s *Store) CountUpdates(ctx context.Context, since Moment) (map[string]int, error) {
	type row struct {
		Dataset string `db:"dataset"`
		Count   int    `db:"count"`
	}
	rows, err := many[row](ctx, s.read, `SELECT dataset, count(*) AS count FROM updates WHERE at >= ? GROUP BY dataset`, since)
	counts := map[string]int{}
	for _, r := range rows {
		counts[r.Dataset] = r.Count
	}
	return counts, err
}

// Uses lists who rests on updates between two numbers, both included, of a data set.
func (s *Store) Uses(ctx context.Context, dataset string, first, last int64) ([]Use, error) {
	return many[Use](ctx, s.read, `SELECT x.*, w.name, r.number, r.workflow AS "of", r.version FROM uses x JOIN updates u ON u.id = x.dataset_update JOIN runs r ON r.id = x.run JOIN workflows w ON w.id = r.workflow
		WHERE u.dataset = ? AND x.dataset_update BETWEEN ? AND ? ORDER BY x.dataset_update, x.at`, dataset, first, last)
}

// AllSeen lists what workflows have seen of data sets.
func (s *Store) AllSeen(ctx context.Context) ([]Seen, error) {
	return many[Seen](ctx, s.read, `SELECT * FROM seen`)
}

// OpenFollowOns lists the runs that are to be made again later.
func (s *Store) OpenFollowOns(ctx context.Context) ([]FollowOn, error) {
	return many[FollowOn](ctx, s.read, `SELECT * FROM follow_ons WHERE state = 'waiting' ORDER BY id`)
}

// FollowOns lists the runs that were last asked to be made again after this one, in
// order.
func (s *Store) FollowOns(ctx context.Context, origin int64) ([]FollowOn, error) {
	return many[FollowOn](ctx, s.read, `SELECT * FROM follow_ons WHERE origin = ?1 AND at = (SELECT max(at) FROM follow_ons WHERE origin = ?1) ORDER BY id`, origin)
}

// NewestRun is the newest run of a workflow for exactly that window, or with NULLs
// its newest run of all.
func (s *Store) NewestRun(ctx context.Context, workflow int64, start, end Moment) (Run, error) {
	if !end.Valid {
		return one[Run](ctx, s.read, selectRuns+`WHERE r.workflow = ? ORDER BY r.number DESC LIMIT 1`, workflow)
	}
	return one[Run](ctx, s.read, selectRuns+`WHERE r.workflow = ? AND r.window_end = ? AND r.window_start = ? ORDER BY r.id DESC LIMIT 1`, workflow, end, start)
}

package store

import (
	"context"
	"strings"
)

// Trouble is a row of troubles, with the name of its workflow where it was read.
type Trouble struct {
	ID          int64  `db:"id"`
	Fingerprint string `db:"fingerprint"`
	Workflow    int64  `db:"workflow"`
	Name        string `db:"name"`
	Task        string `db:"task"`
	Error       string `db:"error"`
	Opened      Moment `db:"opened"`
	Last        Moment `db:"last"`
	Count       int    `db:"count"`
	Closed      Moment `db:"closed"`
	ClosedBy    string `db:"closed_by"`
	TakenBy     string `db:"taken_by"`
	KnownUntil  Moment `db:"known_until"`
	Earlier     int    `db:"earlier"` // how many there were before with its fingerprint, where it was read
}

// TroubleRun is a row of trouble_runs, with what names its run where it was read.
type TroubleRun struct {
	Trouble     int64  `db:"trouble"`
	Run         int64  `db:"run"`
	Task        int    `db:"task"` // -1: the run as a whole
	At          Moment `db:"at"`
	WindowStart Moment `db:"window_start"`
	WindowEnd   Moment `db:"window_end"`
	Mended      Moment `db:"mended"`

	Number  int    `db:"number"`
	Version int    `db:"version"`
	State   string `db:"state"`
}

// TroubleWord is a row of trouble_words.
type TroubleWord struct {
	ID      int64  `db:"id"`
	Trouble int64  `db:"trouble"`
	At      Moment `db:"at"`
	Person  string `db:"person"`
	Word    string `db:"word"`
	Text    string `db:"text"`
}

// Used is what attempts have used.
type Used struct {
	CPU  int64 `db:"cpu"`  // microseconds
	Busy int64 `db:"busy"` // microseconds that workers were at it
	Peak int64 `db:"peak"` // bytes
}

// AddTrouble records a new trouble and returns its number.
func (w *Writer) AddTrouble(row Trouble) int64 {
	return w.exec(`INSERT INTO troubles (fingerprint, workflow, task, error, opened, last, count) VALUES (?, ?, ?, ?, ?, ?, ?)`,
		row.Fingerprint, row.Workflow, row.Task, row.Error, row.Opened, row.Last, row.Count)
}

// SetTrouble records all that changes of a trouble.
func (w *Writer) SetTrouble(row Trouble) {
	w.exec(`UPDATE troubles SET error = ?, last = ?, count = ?, closed = ?, closed_by = ?, taken_by = ?, known_until = ? WHERE id = ?`,
		row.Error, row.Last, row.Count, row.Closed, row.ClosedBy, row.TakenBy, row.KnownUntil, row.ID)
}

// AddTroubleRun records that a task of a run is in a trouble, also if it was before.
func (w *Writer) AddTroubleRun(row TroubleRun) {
	w.exec(`INSERT INTO trouble_runs (trouble, run, task, at, window_start, window_end) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT DO UPDATE SET at = excluded.at, mended = NULL`, row.Trouble, row.Run, row.Task, row.At, row.WindowStart, row.WindowEnd)
}

// MendTroubleRuns records that what a run was made for has succeeded, and tells
// whether that ended anything of the trouble.
func (w *Writer) MendTroubleRuns(trouble int64, run Run, at Moment) bool {
	query, args := `UPDATE trouble_runs SET mended = ? WHERE trouble = ? AND mended IS NULL AND `, []any{at, trouble}
	if run.WindowEnd.Valid {
		query += `(run = ? OR run < ? AND window_start >= ? AND window_end <= ?)`
		args = append(args, run.ID, run.ID, run.WindowStart, run.WindowEnd)
	} else {
		query += `(run = ? OR run < ? AND window_end IS NULL AND run IN (SELECT id FROM runs WHERE id = trouble_runs.run AND params = ?))`
		args = append(args, run.ID, run.ID, run.Params)
	}
	_, mended := w.insert(query, args...)
	return mended
}

// TroubleIsOver tells whether nothing of a trouble is left to be mended.
func (w *Writer) TroubleIsOver(trouble int64) bool {
	var left bool
	w.get(&left, `SELECT EXISTS (SELECT 1 FROM trouble_runs WHERE trouble = ? AND mended IS NULL)`, trouble)
	return !left
}

// AddTroubleWord records what a person said of a trouble.
func (w *Writer) AddTroubleWord(row TroubleWord) {
	w.exec(`INSERT INTO trouble_words (trouble, at, person, word, text) VALUES (?, ?, ?, ?, ?)`, row.Trouble, row.At, row.Person, row.Word, row.Text)
}

// SetView records how a person has arranged a page; an empty body forgets it.
func (w *Writer) SetView(person, page, body string) {
	if body == "" {
		w.exec(`DELETE FROM views WHERE person = ? AND page = ?`, person, page)
		return
	}
	w.exec(`INSERT INTO views (person, page, body) VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET body = excluded.body`, person, page, body)
}

// View is how a person has arranged a page.
func (s *Store) View(ctx context.Context, person, page string) (string, error) {
	return one[string](ctx, s.read, `SELECT body FROM views WHERE person = ? AND page = ?`, person, page)
}

const selectTroubles = `SELECT t.*, w.name, (SELECT count(*) FROM troubles e WHERE e.fingerprint = t.fingerprint AND e.id < t.id) AS earlier FROM troubles t JOIN workflows w ON w.id = t.workflow `

// OpenTroubles lists the troubles that are open, the one that opened last first.
func (s *Store) OpenTroubles(ctx context.Context) ([]Trouble, error) {
	return many[Trouble](ctx, s.read, selectTroubles+`WHERE t.closed IS NULL ORDER BY t.id DESC`)
}

// ClosedTroubles lists troubles that are closed, newest first, before the one with that
// id, or with 0 from the newest on.
func (s *Store) ClosedTroubles(ctx context.Context, before int64, limit int) ([]Trouble, error) {
	return many[Trouble](ctx, s.read, selectTroubles+`WHERE t.closed IS NOT NULL AND (? = 0 OR t.id < ?) ORDER BY t.id DESC LIMIT ?`, before, before, limit)
}

// Trouble is the trouble with that number.
func (s *Store) Trouble(ctx context.Context, id int64) (Trouble, error) {
	return one[Trouble](ctx, s.read, selectTroubles+`WHERE t.id = ?`, id)
}

// TroubleRuns lists the tasks that are in a trouble, newest run first.
func (s *Store) TroubleRuns(ctx context.Context, trouble int64, limit int) ([]TroubleRun, error) {
	return many[TroubleRun](ctx, s.read, `SELECT t.*, r.number, r.version, r.state FROM trouble_runs t JOIN runs r ON r.id = t.run
		WHERE t.trouble = ? ORDER BY t.run DESC, t.task LIMIT ?`, trouble, limit)
}

// OpenTroubleRuns lists the runs of a trouble that are not mended, oldest first.
func (s *Store) OpenTroubleRuns(ctx context.Context, trouble int64, limit int) ([]Run, error) {
	return many[Run](ctx, s.read, selectRuns+`WHERE r.id IN (SELECT run FROM trouble_runs WHERE trouble = ? AND mended IS NULL) ORDER BY r.id LIMIT ?`, trouble, limit)
}

// TroubleCount is how many runs of a trouble are not mended.
type TroubleCount struct {
	Trouble int64 `db:"trouble"`
	Runs    int   `db:"runs"`
	Windows int   `db:"windows"`
}

// CountTroubleRuns counts, of each open trouble, the runs that are not mended and
// the windows that have no data because of it.
func (s *Store) CountTroubleRuns(ctx context.Context) ([]TroubleCount, error) {
	return many[TroubleCount](ctx, s.read, `SELECT o.trouble, count(DISTINCT o.run) AS runs, count(DISTINCT o.window_end) AS windows
		FROM troubles t JOIN trouble_runs o ON o.trouble = t.id AND o.mended IS NULL WHERE t.closed IS NULL GROUP BY o.trouble`)
}

// TroubleWords lists what was said of a trouble, oldest first.
func (s *Store) TroubleWords(ctx context.Context, trouble int64) ([]TroubleWord, error) {
	return many[TroubleWord](ctx, s.read, `SELECT * FROM trouble_words WHERE trouble = ? ORDER BY id`, trouble)
}

// Used sums what the attempts of a run have used.
func (s *Store) Used(ctx context.Context, run int64) (Used, error) {
	return one[Used](ctx, s.read, `SELECT coalesce(sum(cpu), 0) AS cpu, coalesce(sum(CASE WHEN worker != '' AND ended > started THEN ended - started END), 0) AS busy, coalesce(max(peak), 0) AS peak
		FROM attempts WHERE run = ?`, run)
}

// Success is when a run that succeeded began and ended.
type Success struct {
	ID      int64  `db:"id"`
	Number  int    `db:"number"`
	Version int    `db:"version"`
	Started Moment `db:"started"`
	Ended   Moment `db:"ended"`
}

// Successes lists the newest runs of a workflow that succeeded, newest first.
func (s *Store) Successes(ctx context.Context, workflow int64, limit int) ([]Success, error) {
	return many[Success](ctx, s.read, `SELECT id, number, version, started, ended FROM runs INDEXED BY runs_by_success
		WHERE workflow = ? AND state = 'succeeded' ORDER BY number DESC LIMIT ?`, workflow, limit)
}

// Took is how long a task that succeeded took, and what it used.
type Took struct {
	Run  int64 `db:"run"`
	Task int   `db:"task"`
	Took int64 `db:"took"` // microseconds
	CPU  int64 `db:"cpu"`
	Peak int64 `db:"peak"`
}

// TasksTook lists how long the tasks of these runs took that succeeded, items left
// out, with what their last attempt used.
func (s *Store) TasksTook(ctx context.Context, runs []int64) ([]Took, error) {
	if len(runs) == 0 {
		return nil, nil
	}
	within, args := among("t.run", runs)
	return many[Took](ctx, s.read, `SELECT t.run, t.task, t.ended - t.started AS took, coalesce(a.cpu, 0) AS cpu, coalesce(a.peak, 0) AS peak
		FROM tasks t LEFT JOIN attempts a ON a.run = t.run AND a.task = t.task AND a.number = t.attempts
		WHERE t.item_of IS NULL`+within+` AND t.state = 'succeeded' AND t.started IS NOT NULL AND t.ended >= t.started`, args...)
}

// Numbers are those of the runs that ended in an hour in one state.
type Numbers struct {
	Hour  int64  `db:"hour"` // counted from 1970-01-01T00:00Z
	State string `db:"state"`
	Count int    `db:"count"`
	CPU   int64  `db:"cpu"`
	Busy  int64  `db:"busy"`
}

// RunNumbers sums the runs that ended in [from, until) by state and hour, of those
// workflows, or with nil of all.
func (s *Store) RunNumbers(ctx context.Context, from, until Moment, workflows []int64) ([]Numbers, error) {
	within, args := among("workflow", workflows)
	return many[Numbers](ctx, s.read, `SELECT ended / 3600000000 AS hour, state, count(*) AS count, sum(cpu) AS cpu, sum(busy) AS busy FROM runs INDEXED BY runs_by_end
		WHERE ended >= ? AND ended < ?`+within+` GROUP BY 1, 2`, append([]any{from, until}, args...)...)
}

// StartDelays lists how much later than it was due each run began that ended in
// [from, until), in microseconds.
func (s *Store) StartDelays(ctx context.Context, from, until Moment, workflows []int64) ([]int64, error) {
	within, args := among("workflow", workflows)
	return many[int64](ctx, s.read, `SELECT started - due FROM runs INDEXED BY runs_by_end
		WHERE ended >= ? AND ended < ? AND due IS NOT NULL AND started IS NOT NULL`+within, append([]any{from, until}, args...)...)
}

// Mark is what a run is drawn from.
type Mark struct {
	ID       int64  `db:"id"`
	Workflow int64  `db:"workflow"`
	Number   int    `db:"number"`
	State    string `db:"state"`
	Ended    Moment `db:"ended"`
}

// MarkCount is how many runs succeeded in a stretch of time.
type MarkCount struct {
	Place int `db:"place"`
	Count int `db:"count"`
}

// Marks lists the runs that ended from that moment on and did not succeed, newest
// first.
func (s *Store) Marks(ctx context.Context, from Moment, workflows []int64, limit int) ([]Mark, error) {
	within, args := among("workflow", workflows)
	return many[Mark](ctx, s.read, `SELECT id, workflow, number, state, ended FROM runs INDEXED BY runs_by_end
		WHERE ended >= ? AND state != 'succeeded'`+within+` ORDER BY ended DESC LIMIT ?`, append(append([]any{from}, args...), limit)...)
}

// MarkCounts counts the runs that succeeded from that moment on, by steps of that
// many microseconds, the first of them 0.
func (s *Store) MarkCounts(ctx context.Context, from Moment, step int64, workflows []int64) ([]MarkCount, error) {
	within, args := among("workflow", workflows)
	return many[MarkCount](ctx, s.read, `SELECT (ended - ?) / ? AS place, count(*) AS count FROM runs INDEXED BY runs_by_end
		WHERE ended >= ? AND state = 'succeeded'`+within+` GROUP BY 1`, append([]any{from, step, from}, args...)...)
}

// WeekUsed is what the runs of a workflow used that ended in a week.
type WeekUsed struct {
	Workflow int64 `db:"workflow"`
	Week     int   `db:"week"` // counted from the first asked for, from 0
	Runs     int   `db:"runs"`
	Used
}

// UsedByWeek sums what runs used that ended from that moment on, by workflow and
// week.
func (s *Store) UsedByWeek(ctx context.Context, from Moment) ([]WeekUsed, error) {
	return many[WeekUsed](ctx, s.read, `SELECT workflow, (ended - ?) / 604800000000 AS week, count(*) AS runs, sum(cpu) AS cpu, sum(busy) AS busy, max(peak) AS peak
		FROM runs INDEXED BY runs_by_end WHERE ended >= ? GROUP BY 1, 2 ORDER BY 1, 2`, from, from)
}

// among is the condition that a column is one of the numbers; nil is any.
func among(column string, numbers []int64) (string, []any) {
	if numbers == nil {
		return "", nil
	}
	if len(numbers) == 0 {
		return " AND " + column + " = -1", nil // which no row is
	}
	args := make([]any, len(numbers))
	for i, n := range numbers {
		args[i] = n
	}
	return " AND " + column + " IN (?" + strings.Repeat(", ?", len(numbers)-1) + ")", args
}

// OpenRun is what tells whether an open run may become late.
type OpenRun struct {
	ID    int64  `db:"id"`
	DueBy Moment `db:"due_by"`
	Late  Moment `db:"late"`
}

// OpenRunMoments lists the runs that have not ended, oldest first.
func (s *Store) OpenRunMoments(ctx context.Context) ([]OpenRun, error) {
	return many[OpenRun](ctx, s.read, `SELECT id, due_by, late FROM runs WHERE state IN ('queued', 'running') ORDER BY id`)
}

// HeldTask is a task that needs a person.
type HeldTask struct {
	Run      int64  `db:"run"`
	Task     int    `db:"task"`
	Reason   string `db:"reason"`
	Since    Moment `db:"since"`
	Workflow int64  `db:"workflow"`
	Version  int    `db:"version"`
	Name     string `db:"name"`
	Number   int    `db:"number"`
}

// HeldTasks lists the held tasks of open runs, oldest run first, of those
// workflows, or with nil of all.
func (s *Store) HeldTasks(ctx context.Context, workflows []int64, limit int) ([]HeldTask, error) {
	within, args := among("r.workflow", workflows)
	return many[HeldTask](ctx, s.read, `SELECT t.run, t.task, t.reason, r.workflow, r.version, w.name, r.number,
			coalesce((SELECT max(c.at) FROM transitions c WHERE c.run = t.run AND c.task = t.task AND c.after = 'held'), r.created) AS since
		FROM runs r JOIN tasks t ON t.run = r.id AND t.state = 'held' JOIN workflows w ON w.id = r.workflow
		WHERE r.state IN ('queued', 'running') AND r.attention`+within+` ORDER BY r.id, t.task LIMIT ?`, append(args, limit)...)
}

// NamedAttempt is an open attempt with what names its run.
type NamedAttempt struct {
	Run       int64  `db:"run"`
	Task      int    `db:"task"`
	Number    int    `db:"number"`
	State     string `db:"state"`
	Worker    string `db:"worker"`
	Started   Moment `db:"started"`
	Of        int64  `db:"workflow"`
	Version   int    `db:"version"`
	Name      string `db:"name"`
	RunNumber int    `db:"run_number"`
}

// OpenAttemptsNamed lists the attempts that have not ended, but for those that are
// parked, the longest first.
func (s *Store) OpenAttemptsNamed(ctx context.Context) ([]NamedAttempt, error) {
	return many[NamedAttempt](ctx, s.read, `SELECT a.run, a.task, a.number, a.state, a.worker, a.started, r.workflow, r.version, w.name, r.number AS run_number
		FROM attempts a INDEXED BY attempts_open JOIN runs r ON r.id = a.run JOIN workflows w ON w.id = r.workflow
		WHERE a.ended IS NULL AND a.state != 'waiting' ORDER BY a.started, a.run, a.task`)
}

// TaskRibbon is how a task of a run came out.
type TaskRibbon struct {
	Run     int64  `db:"run"`
	State   string `db:"state"`
	Started Moment `db:"started"`
	Ended   Moment `db:"ended"`
}

// Ribbons lists the tasks of these runs, items left out, each run's in the order
// of its definition.
func (s *Store) Ribbons(ctx context.Context, runs []int64) ([]TaskRibbon, error) {
	if len(runs) == 0 {
		return nil, nil
	}
	within, args := among("run", runs)
	return many[TaskRibbon](ctx, s.read, `SELECT run, state, started, ended FROM tasks WHERE item_of IS NULL`+within+` ORDER BY run, task`, args...)
}

// SuccessBefore is the newest run of a workflow that succeeded before the one with
// that number.
func (s *Store) SuccessBefore(ctx context.Context, workflow int64, number int) (Run, error) {
	return one[Run](ctx, s.read, selectRuns+`WHERE r.workflow = ? AND r.state = 'succeeded' AND r.number < ? ORDER BY r.number DESC LIMIT 1`, workflow, number)
}

-- +goose Up
-- Moments are microseconds since 1970-01-01T00:00Z; a moment that has not come is NULL.

CREATE TABLE parcels (
    hash  TEXT PRIMARY KEY,         -- SHA-256 of the archive, hexadecimal
    bytes INTEGER NOT NULL,
    files INTEGER NOT NULL,
    added INTEGER NOT NULL
) WITHOUT ROWID;

CREATE TABLE workflows (
    id            INTEGER PRIMARY KEY,
    name          TEXT    NOT NULL UNIQUE,
    version       INTEGER NOT NULL, -- the one that new runs take
    last_run      INTEGER NOT NULL DEFAULT 0,
    paused_at     INTEGER,
    paused_by     TEXT    NOT NULL DEFAULT '',
    decided_until INTEGER NOT NULL, -- each due moment up to this one has become a run, or a decision
    covered       TEXT    NOT NULL DEFAULT '{}' -- JSON: by schedule, where its last window ended
);

-- Due windows that got no run, and why: one row for as many as were decided alike.
CREATE TABLE decisions (
    id           INTEGER PRIMARY KEY,
    workflow     INTEGER NOT NULL REFERENCES workflows (id),
    at           INTEGER NOT NULL,
    kind         TEXT    NOT NULL,  -- missed, skipped
    reason       TEXT    NOT NULL,
    count        INTEGER NOT NULL,
    due_first    INTEGER NOT NULL,
    due_last     INTEGER NOT NULL,
    window_start INTEGER,           -- of the first
    window_end   INTEGER            -- of the last
);
CREATE INDEX decisions_by_workflow ON decisions (workflow, window_end);

CREATE TABLE versions (
    workflow   INTEGER NOT NULL REFERENCES workflows (id),
    number     INTEGER NOT NULL,
    definition TEXT    NOT NULL,    -- JSON
    hash       TEXT    NOT NULL,
    parcel     TEXT    NOT NULL,    -- '' if the workflow came without a folder of code
    project    TEXT    NOT NULL,
    environment TEXT   NOT NULL,    -- of the project; '' for none
    file       TEXT    NOT NULL,
    applied    INTEGER NOT NULL,
    applied_by TEXT    NOT NULL,
    PRIMARY KEY (workflow, number)
) WITHOUT ROWID;

CREATE TABLE runs (
    id           INTEGER PRIMARY KEY,
    workflow     INTEGER NOT NULL REFERENCES workflows (id),
    number       INTEGER NOT NULL,
    version      INTEGER NOT NULL,
    state        TEXT    NOT NULL,
    stopping     INTEGER NOT NULL DEFAULT 0,
    attention    INTEGER NOT NULL DEFAULT 0,
    cause        TEXT    NOT NULL,
    caused_by    TEXT    NOT NULL,  -- the person, the rule, or the task
    outer_run     INTEGER,          -- of a run that a task started: its run,
    outer_task    INTEGER,          -- the task,
    outer_attempt INTEGER,          -- and its attempt
    result       TEXT,              -- JSON: what it leaves for the task that started it
    window_start INTEGER,
    window_end   INTEGER,
    due          INTEGER,
    backfill     INTEGER,           -- that made it
    newest       INTEGER NOT NULL DEFAULT 1, -- no later window was due when it was made
    params       TEXT    NOT NULL,  -- JSON
    watermarks   TEXT    NOT NULL DEFAULT '{}', -- JSON: as they were when it was made
    created      INTEGER NOT NULL,
    started      INTEGER,
    deadline     INTEGER,           -- when it is over its deadline, if it has one
    ended        INTEGER,
    UNIQUE (workflow, number)
);
CREATE INDEX runs_open ON runs (id) WHERE state IN ('queued', 'running');
CREATE INDEX runs_by_state ON runs (state, id);
CREATE INDEX runs_by_window ON runs (workflow, window_end, window_start, id, state);

CREATE TABLE tasks (
    run      INTEGER NOT NULL REFERENCES runs (id),
    task     INTEGER NOT NULL,      -- its place among the nodes of the definition, from 0; items come behind
    state    TEXT    NOT NULL,
    attempts INTEGER NOT NULL DEFAULT 0,
    before   INTEGER NOT NULL DEFAULT 0, -- attempts made before the task was last made to run again
    lost     INTEGER NOT NULL DEFAULT 0,
    stopping INTEGER NOT NULL DEFAULT 0,
    reason   TEXT    NOT NULL DEFAULT '',
    chosen   TEXT    NOT NULL DEFAULT '', -- of a route: the tasks that it chose, as JSON
    cleared  INTEGER NOT NULL DEFAULT 0,  -- it may begin, and waits only for its resources
    items    INTEGER NOT NULL DEFAULT 0,  -- of a task made for each item: how many there are
    item_of  INTEGER,               -- of an item: the task that it is one of
    item     INTEGER,               -- its place in the list, from 0
    value    TEXT    NOT NULL DEFAULT '', -- its value, as JSON
    wake     INTEGER,               -- when its pause ends, while it is cooling, or the time that it may wait
    started  INTEGER,
    ended    INTEGER,
    PRIMARY KEY (run, task)
) WITHOUT ROWID;

-- An attempt that is `sent` is the work order in the outbox: it is sent again
-- after a restart until a worker says that it has started it.
CREATE TABLE attempts (
    run       INTEGER NOT NULL REFERENCES runs (id),
    task      INTEGER NOT NULL,
    number    INTEGER NOT NULL,     -- from 1
    state     TEXT    NOT NULL,     -- sent, running, waiting, succeeded, failed, skipped, stopped, lost
    worker    TEXT    NOT NULL DEFAULT '',
    sent      INTEGER NOT NULL,
    started   INTEGER,
    ended     INTEGER,
    exit_code INTEGER,
    error     TEXT    NOT NULL DEFAULT '',
    result    TEXT,                 -- JSON
    inner_run INTEGER,              -- the run that it started
    PRIMARY KEY (run, task, number)
) WITHOUT ROWID;
CREATE INDEX attempts_open ON attempts (run, task, number) WHERE state IN ('sent', 'running', 'waiting');

CREATE TABLE transitions (
    id     INTEGER PRIMARY KEY AUTOINCREMENT,
    run    INTEGER NOT NULL,
    task   INTEGER,                 -- NULL: the run itself
    at     INTEGER NOT NULL,
    before TEXT    NOT NULL,
    after  TEXT    NOT NULL,
    reason TEXT    NOT NULL DEFAULT '',
    person TEXT    NOT NULL DEFAULT ''
);
CREATE INDEX transitions_by_run ON transitions (run, id);

CREATE TABLE capacities (
    name  TEXT PRIMARY KEY,
    units INTEGER NOT NULL
) WITHOUT ROWID;

CREATE TABLE sessions (
    hash    TEXT PRIMARY KEY,       -- SHA-256 of the cookie's secret
    person  TEXT    NOT NULL,
    created INTEGER NOT NULL,
    expires INTEGER NOT NULL
) WITHOUT ROWID;

-- Keys that open the calendar of what is due, and nothing else.
CREATE TABLE feeds (
    hash    TEXT PRIMARY KEY,       -- SHA-256 of the key
    person  TEXT    NOT NULL,
    created INTEGER NOT NULL
) WITHOUT ROWID;

CREATE TABLE backfills (
    id         INTEGER PRIMARY KEY, -- its number
    workflow   INTEGER NOT NULL REFERENCES workflows (id),
    state      TEXT    NOT NULL,    -- running, paused, stopped, succeeded, failed
    reason     TEXT    NOT NULL,    -- why it is paused, where no person did it
    range_from INTEGER NOT NULL,
    range_until INTEGER NOT NULL,
    asked      TEXT    NOT NULL,    -- JSON: what the person asked for
    at_once    INTEGER NOT NULL,    -- runs of its own that may go at once; 0: as many as the workflow lets
    stop_after INTEGER NOT NULL,    -- failures after which it pauses; 0: never
    total      INTEGER NOT NULL,    -- stretches
    created    INTEGER NOT NULL,
    created_by TEXT    NOT NULL,
    ended      INTEGER
);

CREATE TABLE backfill_windows (
    backfill INTEGER NOT NULL REFERENCES backfills (id),
    place    INTEGER NOT NULL,      -- in the order in which they are worked through, from 0
    window_start INTEGER NOT NULL,
    window_end   INTEGER NOT NULL,
    windows  INTEGER NOT NULL,      -- of the schedule that lie in it
    state    TEXT    NOT NULL,      -- waiting, running, succeeded, failed, stopped
    run      INTEGER,               -- the newest that was made for it
    PRIMARY KEY (backfill, place)
) WITHOUT ROWID;
CREATE INDEX backfill_windows_by_state ON backfill_windows (backfill, state, place);
CREATE INDEX backfill_windows_merged ON backfill_windows (backfill, window_end) WHERE windows > 1;

-- What watermarks became, and by whom; the newest row of each is its value.
CREATE TABLE watermarks (
    id       INTEGER PRIMARY KEY,
    workflow INTEGER NOT NULL REFERENCES workflows (id),
    name     TEXT    NOT NULL,
    value    TEXT    NOT NULL,      -- JSON
    at       INTEGER NOT NULL,
    run      INTEGER,               -- that set it; NULL: a person did
    person   TEXT    NOT NULL
);
CREATE INDEX watermarks_by_name ON watermarks (workflow, name, id);

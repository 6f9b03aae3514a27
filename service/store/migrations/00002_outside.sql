-- +goose Up
-- What happens outside: events, what they brought about, what is awaited, data sets.

CREATE TABLE events (
    id       INTEGER PRIMARY KEY,
    source   TEXT    NOT NULL,
    event    TEXT    NOT NULL,      -- its id, with its source known to the world
    type     TEXT    NOT NULL,
    subject  TEXT    NOT NULL,
    received INTEGER NOT NULL,
    via      TEXT    NOT NULL,      -- api, service, or hook NAME
    person   TEXT    NOT NULL,
    envelope TEXT    NOT NULL,      -- the JSON event format of CloudEvents 1.0
    UNIQUE (source, event)
);
CREATE INDEX events_by_time ON events (type, received);
CREATE INDEX events_from_outside ON events (id) WHERE via != 'service';

-- What an event was taken for: a start, or a wait.
CREATE TABLE answers (
    id       INTEGER PRIMARY KEY,
    event    INTEGER NOT NULL REFERENCES events (id),
    workflow INTEGER,               -- of a start,
    start    TEXT    NOT NULL DEFAULT '', -- by its key
    run      INTEGER,               -- that it made, or whose task waited
    task     INTEGER,
    attempt  INTEGER,
    state    TEXT    NOT NULL,      -- run, wait, gathering, kept, none
    reason   TEXT    NOT NULL DEFAULT '',
    at       INTEGER NOT NULL
);
CREATE UNIQUE INDEX answers_once ON answers (event, workflow, start) WHERE start != '';
CREATE INDEX answers_by_event ON answers (event);
CREATE INDEX answers_open ON answers (workflow, start, id) WHERE state IN ('gathering', 'kept');
CREATE INDEX answers_by_run ON answers (run) WHERE state = 'run';

-- What was refused at the door.
CREATE TABLE refusals (
    id     INTEGER PRIMARY KEY,
    at     INTEGER NOT NULL,
    via    TEXT    NOT NULL,
    reason TEXT    NOT NULL,
    bytes  INTEGER NOT NULL
);

CREATE TABLE hooks (
    name       TEXT PRIMARY KEY,
    secret     TEXT    NOT NULL,    -- the key of its signatures
    spec       TEXT    NOT NULL,    -- JSON
    created    INTEGER NOT NULL,
    created_by TEXT    NOT NULL
) WITHOUT ROWID;

CREATE TABLE connections (
    name    TEXT PRIMARY KEY,
    address TEXT NOT NULL
) WITHOUT ROWID;

-- What parked attempts wait for, one row for each thing.
CREATE TABLE waits (
    run     INTEGER NOT NULL REFERENCES runs (id),
    task    INTEGER NOT NULL,
    attempt INTEGER NOT NULL,
    place   INTEGER NOT NULL,       -- among the things that the task waits for, from 0
    state   TEXT    NOT NULL,       -- waiting, came, failed, over
    spec    TEXT    NOT NULL,       -- JSON: what is awaited, with the values in their places
    since   INTEGER NOT NULL,
    came    INTEGER,
    result  TEXT,                   -- JSON
    reason  TEXT    NOT NULL DEFAULT '',
    PRIMARY KEY (run, task, attempt, place)
) WITHOUT ROWID;

CREATE TABLE updates (
    id           INTEGER PRIMARY KEY,
    dataset      TEXT    NOT NULL,
    event        INTEGER NOT NULL REFERENCES events (id),
    run          INTEGER,           -- that made it; NULL: it was told from outside
    task         INTEGER,
    attempt      INTEGER,
    window_start INTEGER,
    window_end   INTEGER,
    at           INTEGER NOT NULL,
    info         TEXT    NOT NULL   -- JSON: what is told of it
);
CREATE INDEX updates_by_dataset ON updates (dataset, id);
CREATE INDEX updates_by_time ON updates (dataset, at);
CREATE INDEX updates_by_at ON updates (at);
CREATE INDEX updates_by_event ON updates (event);
CREATE INDEX updates_by_window ON updates (dataset, window_end, window_start);

-- Who has taken an update as the ground of what it did.
CREATE TABLE uses (
    dataset_update INTEGER NOT NULL REFERENCES updates (id),
    run            INTEGER NOT NULL,
    task           INTEGER NOT NULL, -- -1: the whole run, which the update started
    at             INTEGER NOT NULL,
    PRIMARY KEY (dataset_update, run, task)
) WITHOUT ROWID;
CREATE INDEX uses_by_run ON uses (run);

-- What of a data set a workflow has seen, for only_if: new("…").
CREATE TABLE seen (
    workflow       INTEGER NOT NULL REFERENCES workflows (id),
    dataset        TEXT    NOT NULL,
    dataset_update INTEGER NOT NULL,
    PRIMARY KEY (workflow, dataset)
) WITHOUT ROWID;

-- What a task, or with -1 a whole run, rests on in the run of another workflow.
CREATE TABLE rests (
    run       INTEGER NOT NULL,
    task      INTEGER NOT NULL,
    from_run  INTEGER NOT NULL,
    from_task INTEGER NOT NULL,     -- -1: the whole run
    kind      TEXT    NOT NULL,     -- starts, waits, data set
    PRIMARY KEY (from_run, from_task, run, task)
) WITHOUT ROWID;

-- Runs that are to be made again once those before them have succeeded.
CREATE TABLE follow_ons (
    id     INTEGER PRIMARY KEY,
    origin INTEGER NOT NULL,        -- the run that was made again first
    run    INTEGER NOT NULL,
    tasks  TEXT    NOT NULL,        -- JSON: their numbers; [] is all
    after  TEXT    NOT NULL,        -- JSON: the runs that must have succeeded before
    person TEXT    NOT NULL,
    at     INTEGER NOT NULL,
    state  TEXT    NOT NULL,        -- waiting, done, given up
    reason TEXT    NOT NULL DEFAULT ''
);
CREATE INDEX follow_ons_by_origin ON follow_ons (origin, id);
CREATE INDEX follow_ons_open ON follow_ons (id) WHERE state = 'waiting';

ALTER TABLE workflows ADD COLUMN removed INTEGER;
ALTER TABLE workflows ADD COLUMN removed_by TEXT NOT NULL DEFAULT '';

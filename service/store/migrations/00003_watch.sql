-- +goose Up
-- What people watch: what things cost, what is late, what is broken, and how they see it.

ALTER TABLE attempts ADD COLUMN cpu INTEGER;   -- microseconds of processor time; NULL: nobody told
ALTER TABLE attempts ADD COLUMN peak INTEGER;  -- bytes of memory at most

ALTER TABLE runs ADD COLUMN due_by INTEGER;    -- when it should be done
ALTER TABLE runs ADD COLUMN late INTEGER;      -- when it was found to be late
ALTER TABLE runs ADD COLUMN late_reason TEXT NOT NULL DEFAULT '';
ALTER TABLE runs ADD COLUMN cpu INTEGER NOT NULL DEFAULT 0;  -- microseconds, of all its attempts
ALTER TABLE runs ADD COLUMN busy INTEGER NOT NULL DEFAULT 0; -- microseconds that workers were at it
ALTER TABLE runs ADD COLUMN peak INTEGER NOT NULL DEFAULT 0; -- bytes, of the attempt that had most

-- The numbers of a day or a week are read from this index alone.
CREATE INDEX runs_by_end ON runs (ended, workflow, state, created, due, started, cpu, busy, peak) WHERE ended IS NOT NULL;
CREATE INDEX runs_by_success ON runs (workflow, number, version, started, ended) WHERE state = 'succeeded';

-- Failures of one task that have the same cause, as far as their words tell.
CREATE TABLE troubles (
    id          INTEGER PRIMARY KEY,
    fingerprint TEXT    NOT NULL,
    workflow    INTEGER NOT NULL REFERENCES workflows (id),
    task        TEXT    NOT NULL,   -- the node of the definition; '' is the run as a whole
    error       TEXT    NOT NULL,   -- the newest
    opened      INTEGER NOT NULL,
    last        INTEGER NOT NULL,
    count       INTEGER NOT NULL,   -- how often a task failed of it
    closed      INTEGER,
    closed_by   TEXT    NOT NULL DEFAULT '', -- '' where its windows have succeeded since
    taken_by    TEXT    NOT NULL DEFAULT '',
    known_until INTEGER
);
CREATE INDEX troubles_open ON troubles (id) WHERE closed IS NULL;
CREATE INDEX troubles_by_fingerprint ON troubles (fingerprint, id);

CREATE TABLE trouble_runs (
    trouble      INTEGER NOT NULL REFERENCES troubles (id),
    run          INTEGER NOT NULL REFERENCES runs (id),
    task         INTEGER NOT NULL,  -- -1: the run as a whole
    at           INTEGER NOT NULL,
    window_start INTEGER,
    window_end   INTEGER,
    mended       INTEGER,           -- when its window had data again
    PRIMARY KEY (trouble, run, task)
) WITHOUT ROWID;
CREATE INDEX trouble_runs_open ON trouble_runs (trouble, run) WHERE mended IS NULL;

-- What people said of a trouble.
CREATE TABLE trouble_words (
    id      INTEGER PRIMARY KEY,
    trouble INTEGER NOT NULL REFERENCES troubles (id),
    at      INTEGER NOT NULL,
    person  TEXT    NOT NULL,
    word    TEXT    NOT NULL,       -- take, leave, note, known, close, open
    text    TEXT    NOT NULL
);
CREATE INDEX trouble_words_by_trouble ON trouble_words (trouble, id);

-- How a person has arranged a page.
CREATE TABLE views (
    person TEXT NOT NULL,
    page   TEXT NOT NULL,
    body   TEXT NOT NULL,           -- JSON
    PRIMARY KEY (person, page)
) WITHOUT ROWID;

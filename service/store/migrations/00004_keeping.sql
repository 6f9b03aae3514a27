-- +goose Up
-- Reports of attempts that had been given up before; they change nothing else.
CREATE TABLE late_reports (
    run       INTEGER NOT NULL,
    task      INTEGER NOT NULL,
    attempt   INTEGER NOT NULL,
    worker    TEXT    NOT NULL,
    state     TEXT    NOT NULL,    -- as the worker saw it
    started   INTEGER,
    ended     INTEGER NOT NULL,
    exit_code INTEGER,
    error     TEXT    NOT NULL,
    received  INTEGER NOT NULL,
    PRIMARY KEY (run, task, attempt, worker, ended)
) WITHOUT ROWID;

-- Workers of other machines that may join.
CREATE TABLE worker_keys (
    name       TEXT PRIMARY KEY,
    public_key TEXT    NOT NULL,   -- of its NATS nkey
    created    INTEGER NOT NULL,
    created_by TEXT    NOT NULL
) WITHOUT ROWID;

-- When the attempts of a run were removed from the records; how it ended stays.
ALTER TABLE runs ADD COLUMN forgotten INTEGER;
CREATE INDEX runs_kept ON runs (workflow, number) WHERE forgotten IS NULL AND ended IS NOT NULL;

-- +goose Up
CREATE TABLE chunks (
    run        INTEGER NOT NULL,
    task       INTEGER NOT NULL,
    attempt    INTEGER NOT NULL,
    first_line INTEGER NOT NULL,    -- from 0
    lines      INTEGER NOT NULL,
    data       BLOB    NOT NULL,    -- lines as lineformat.go writes them, compressed with Zstandard
    UNIQUE (run, task, attempt, first_line)
);

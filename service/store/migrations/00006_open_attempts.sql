-- +goose Up
-- An attempt that has not ended is known by that it has no end: asking for one of three
-- words took most of the time in which its end is recorded.
UPDATE attempts SET ended = CASE WHEN state IN ('sent', 'running', 'waiting') THEN NULL ELSE coalesce(started, sent) END
    WHERE (ended IS NULL) <> (state IN ('sent', 'running', 'waiting'));
DROP INDEX attempts_open;
CREATE INDEX attempts_open ON attempts (run, task, number) WHERE ended IS NULL;

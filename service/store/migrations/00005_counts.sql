-- +goose Up
-- How many tasks of a run that has ended are in each state, as a JSON object, without the
-- items that count for their task: so that a list of large runs reads no tasks. NULL while
-- a run goes on, and for those that ended before this column was there.
ALTER TABLE runs ADD COLUMN counts TEXT;

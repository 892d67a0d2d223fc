-- +goose Up
-- A request with an idempotency key: what it came to is written with the change
-- itself; its answer, once it has been given, stands beside it.
DELETE FROM answers;
ALTER TABLE answers ADD COLUMN outcome MEDIUMTEXT NOT NULL AFTER request_hash;
-- How far a process's clock is off the database's.
ALTER TABLE workers ADD COLUMN clock_off_ms BIGINT NOT NULL DEFAULT 0;

-- From where a rule's counters go on: ahead of all it may have given in a
-- database that went back in time.
ALTER TABLE rules ADD COLUMN counts_from BIGINT NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE rules DROP COLUMN counts_from;
ALTER TABLE workers DROP COLUMN clock_off_ms;
ALTER TABLE answers DROP COLUMN outcome;

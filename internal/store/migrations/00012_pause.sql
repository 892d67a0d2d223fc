-- A sender may pause between batches of emails.
-- +goose Up
ALTER TABLE senders
  ADD COLUMN batch INT NOT NULL DEFAULT 0,
  ADD COLUMN pause_seconds INT NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE senders DROP COLUMN batch, DROP COLUMN pause_seconds;

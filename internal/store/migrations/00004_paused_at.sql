-- +goose Up
-- Resuming offers what passed since.
ALTER TABLE rules ADD COLUMN paused_at DATETIME(6) NULL;

-- +goose Down
ALTER TABLE rules DROP COLUMN paused_at;

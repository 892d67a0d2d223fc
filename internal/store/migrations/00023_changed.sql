-- A view is mended by the rows that have changed since (engine/view.go).
-- +goose Up
ALTER TABLE sheet_rows ADD COLUMN changed BIGINT NOT NULL DEFAULT 0, ADD KEY changed (sheet_id, changed);
-- +goose Down
ALTER TABLE sheet_rows DROP KEY changed, DROP COLUMN changed;

-- The address of a source whose query holds what may be a secret: sealed, and shown without it.
-- +goose Up
ALTER TABLE sources ADD COLUMN sealed_place BLOB NULL AFTER place;
-- +goose Down
ALTER TABLE sources DROP COLUMN sealed_place;

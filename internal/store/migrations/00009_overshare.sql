-- +goose Up
-- Why a refresh changed nothing is a value: that too much would have changed
-- can be overruled by a person, the rest cannot.
ALTER TABLE sources ADD COLUMN over_share BOOLEAN NOT NULL DEFAULT FALSE AFTER trouble;

-- +goose Down
ALTER TABLE sources DROP COLUMN over_share;

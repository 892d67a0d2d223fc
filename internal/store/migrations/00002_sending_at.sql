-- +goose Up
-- When a delivery was last marked "sending": the event of a mark is written
-- with its outcome, or from here where none came.
ALTER TABLE deliveries ADD COLUMN sending_at DATETIME(6) NULL AFTER first_try;

-- +goose Down
ALTER TABLE deliveries DROP COLUMN sending_at;

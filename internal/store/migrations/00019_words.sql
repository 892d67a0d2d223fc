-- One word for one thing, from the table to the screen.
-- +goose Up
ALTER TABLE deliveries RENAME COLUMN trouble TO last_error, RENAME COLUMN blame TO faulty_column;
ALTER TABLE sources RENAME COLUMN trouble TO last_error;
RENAME TABLE standings TO row_states;
-- +goose Down
RENAME TABLE row_states TO standings;
ALTER TABLE sources RENAME COLUMN last_error TO trouble;
ALTER TABLE deliveries RENAME COLUMN last_error TO trouble, RENAME COLUMN faulty_column TO blame;

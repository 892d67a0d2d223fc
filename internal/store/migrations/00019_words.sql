-- One word for one thing, from the table to the screen; the do-not-email list has a stamp (store/donotemail.go).
-- +goose Up
ALTER TABLE deliveries RENAME COLUMN trouble TO last_error, RENAME COLUMN blame TO faulty_column;
ALTER TABLE sources RENAME COLUMN trouble TO last_error;
RENAME TABLE standings TO row_states;
INSERT IGNORE INTO settings (name, value) VALUES ('do-not-email', '"first"');
-- +goose Down
DELETE FROM settings WHERE name = 'do-not-email';
RENAME TABLE row_states TO standings;
ALTER TABLE sources RENAME COLUMN last_error TO trouble;
ALTER TABLE deliveries RENAME COLUMN last_error TO trouble, RENAME COLUMN faulty_column TO blame;

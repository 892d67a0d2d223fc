-- +goose Up
-- One that ends its chain leaves out the follow-ups after it too; origin is the
-- occasion as it was foreseen.
ALTER TABLE set_asides
  ADD COLUMN ends BOOLEAN NOT NULL DEFAULT FALSE,
  ADD COLUMN why VARCHAR(200) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL DEFAULT '',
  ADD COLUMN origin TEXT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  ADD KEY sheet (sheet_id, due_at);
-- When which mailbox got an email, while there is a limit per person.
CREATE TABLE had (
  mailbox VARCHAR(320) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  delivery_id BIGINT NOT NULL,
  at DATETIME(6) NOT NULL,
  PRIMARY KEY (mailbox, delivery_id),
  KEY at (at)
);

-- +goose Down
DROP TABLE had;
ALTER TABLE set_asides DROP KEY sheet, DROP COLUMN ends, DROP COLUMN why, DROP COLUMN origin;

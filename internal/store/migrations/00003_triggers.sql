-- +goose Up
-- Reactions that a window moves and follow-ups wait on the agenda with their
-- occasion; nr tells those of one row and rule apart.
ALTER TABLE agenda
  DROP KEY what,
  ADD COLUMN nr BIGINT NOT NULL DEFAULT 0 AFTER delivery_id,
  ADD COLUMN known DATETIME(6) NULL,
  ADD COLUMN done_rows BIGINT NOT NULL DEFAULT 0,
  ADD COLUMN origin TEXT NULL,
  ADD UNIQUE KEY what (kind, rule_id, row_id, delivery_id, nr),
  ADD KEY delivery_id (delivery_id);
-- What a rule that reacts remembers of a row. Its counters never go down.
CREATE TABLE standings (
  rule_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  row_id BIGINT NOT NULL,
  baseline DATETIME(6) NULL,
  body TEXT NOT NULL,
  PRIMARY KEY (row_id, rule_id)
);
ALTER TABLE deliveries
  ADD COLUMN base BINARY(16) NULL AFTER occasion,
  ADD COLUMN step INT NOT NULL DEFAULT 0 AFTER row_id,
  ADD COLUMN reaction BOOLEAN NOT NULL DEFAULT FALSE AFTER step,
  ADD COLUMN went_at DATETIME(6) NULL AFTER judged_at,
  ADD KEY base (base);
ALTER TABLE rules
  ADD COLUMN braked_at DATETIME(6) NULL,
  ADD COLUMN released_at DATETIME(6) NULL;
ALTER TABLE senders
  ADD COLUMN daily_cap INT NOT NULL DEFAULT 0,
  ADD COLUMN pace INT NOT NULL DEFAULT 0,
  ADD COLUMN zone VARCHAR(60) NOT NULL DEFAULT 'UTC';
ALTER TABLE templates
  ADD COLUMN language VARCHAR(20) NOT NULL DEFAULT '',
  ADD COLUMN variants MEDIUMTEXT NULL;

-- +goose Down
ALTER TABLE templates DROP COLUMN language, DROP COLUMN variants;
ALTER TABLE senders DROP COLUMN daily_cap, DROP COLUMN pace, DROP COLUMN zone;
ALTER TABLE rules DROP COLUMN braked_at, DROP COLUMN released_at;
ALTER TABLE deliveries DROP KEY base, DROP COLUMN base, DROP COLUMN step, DROP COLUMN reaction, DROP COLUMN went_at;
DROP TABLE standings;
ALTER TABLE agenda DROP KEY what, DROP KEY delivery_id, DROP COLUMN nr, DROP COLUMN known, DROP COLUMN done_rows, DROP COLUMN origin,
  ADD UNIQUE KEY what (kind, rule_id, row_id, delivery_id);

-- +goose Up
-- A sending by hand: the rows that were picked, how far it has come, and whether
-- somebody has stopped it. What came of it stands in the ledger, under its rule
-- and its instant.
CREATE TABLE batches (
  id BIGINT AUTO_INCREMENT PRIMARY KEY,
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  rule_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  name VARCHAR(64) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  at DATETIME(6) NOT NULL,
  actor VARCHAR(120) NOT NULL,
  picked MEDIUMTEXT NOT NULL,
  total INT NOT NULL,
  done INT NOT NULL DEFAULT 0,
  stopped_at DATETIME(6) NULL,
  stopped_by VARCHAR(120) NOT NULL DEFAULT '',
  UNIQUE KEY name (rule_id, name),
  KEY sheet (sheet_id, at)
);
-- What a person has said of an email that is to come: that it is left out, or
-- that it goes at another time.
CREATE TABLE set_asides (
  occasion BINARY(16) PRIMARY KEY,
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  rule_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  row_id BIGINT NOT NULL,
  due_at DATETIME(6) NOT NULL,
  moved_to DATETIME(6) NULL,
  actor VARCHAR(120) NOT NULL,
  at DATETIME(6) NOT NULL,
  KEY row_id (row_id)
);
-- Rules stand in an order of their own; one that a column or template has left
-- is broken, and says what it misses.
ALTER TABLE rules
  ADD COLUMN position INT NOT NULL DEFAULT 0,
  ADD COLUMN broken VARCHAR(1000) NOT NULL DEFAULT '',
  ADD COLUMN deleted_by VARCHAR(120) NOT NULL DEFAULT '',
  ADD COLUMN history_of VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '';
UPDATE rules r SET position = (SELECT COUNT(*) FROM (SELECT id, sheet_id, created_at FROM rules) o WHERE o.sheet_id = r.sheet_id AND (o.created_at, o.id) < (r.created_at, r.id));
-- A feed of what is coming, under a secret address that can be taken back.
CREATE TABLE feeds (
  id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  token_hash BINARY(32) NOT NULL,
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  rule_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '',
  made_by VARCHAR(120) NOT NULL,
  made_at DATETIME(6) NOT NULL,
  UNIQUE KEY token_hash (token_hash),
  KEY sheet (sheet_id)
);

-- +goose Down
DROP TABLE feeds;
ALTER TABLE rules DROP COLUMN position, DROP COLUMN broken, DROP COLUMN deleted_by, DROP COLUMN history_of;
DROP TABLE set_asides;
DROP TABLE batches;

-- +goose Up
-- Rows stand with room between them, so that one can be put in.
UPDATE sheet_rows SET place = place * 1048576;
-- A change of several rows is a head event, and a member for each row.
ALTER TABLE events ADD COLUMN change_id BIGINT NULL, ADD KEY change_id (change_id);
-- The change that brought a row in, where it brought several.
ALTER TABLE sheet_rows ADD COLUMN born BIGINT NULL, ADD KEY born (born);
ALTER TABLE sheets
  ADD COLUMN name_column VARCHAR(20) NOT NULL DEFAULT '' AFTER address_column,
  ADD COLUMN language_column VARCHAR(20) NOT NULL DEFAULT '' AFTER name_column,
  ADD COLUMN last_column INT NOT NULL DEFAULT 0,
  ADD COLUMN order_version BIGINT NOT NULL DEFAULT 0,
  ADD COLUMN live_rows BIGINT NOT NULL DEFAULT 0,
  ADD COLUMN frozen INT NOT NULL DEFAULT 0,
  ADD COLUMN removed_columns MEDIUMTEXT NULL,
  ADD COLUMN matched MEDIUMTEXT NULL;
UPDATE sheets s SET live_rows = (SELECT COUNT(*) FROM sheet_rows r WHERE r.sheet_id = s.id AND r.deleted_at IS NULL);
CREATE TABLE views (
  id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  person_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  name VARCHAR(120) NOT NULL,
  shared BOOLEAN NOT NULL DEFAULT FALSE,
  spec MEDIUMTEXT NOT NULL,
  created_at DATETIME(6) NOT NULL,
  KEY sheet (sheet_id)
);
-- What runs on when its page is closed.
CREATE TABLE jobs (
  id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  person VARCHAR(120) NOT NULL,
  kind VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  state VARCHAR(12) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  done BIGINT NOT NULL DEFAULT 0,
  total BIGINT NOT NULL DEFAULT 0,
  stop BOOLEAN NOT NULL DEFAULT FALSE,
  result MEDIUMTEXT NULL,
  started_at DATETIME(6) NOT NULL,
  seen_at DATETIME(6) NOT NULL,
  KEY sheet (sheet_id, started_at)
);
-- Files that somebody else keeps and sheets follow.
CREATE TABLE sources (
  id BIGINT AUTO_INCREMENT PRIMARY KEY,
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  place VARCHAR(2000) NOT NULL,
  worksheet VARCHAR(120) NOT NULL DEFAULT '',
  heading_row INT NOT NULL DEFAULT 0,
  every_minutes INT NOT NULL DEFAULT 0,
  at_time VARCHAR(5) NOT NULL DEFAULT '',
  share INT NOT NULL DEFAULT 33,
  missing VARCHAR(10) NOT NULL DEFAULT 'gone',
  paused BOOLEAN NOT NULL DEFAULT FALSE,
  print VARBINARY(32) NULL,
  looked_at DATETIME(6) NULL,
  changed_at DATETIME(6) NULL,
  trouble VARCHAR(1000) NOT NULL DEFAULT '',
  overrule BOOLEAN NOT NULL DEFAULT FALSE,
  UNIQUE KEY sheet (sheet_id)
);
-- Public pages that add a row.
CREATE TABLE forms (
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  address VARCHAR(40) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  open BOOLEAN NOT NULL DEFAULT FALSE,
  body MEDIUMTEXT NOT NULL,
  UNIQUE KEY address (address)
);
CREATE TABLE tokens (
  id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  token_hash BINARY(32) NOT NULL,
  name VARCHAR(120) NOT NULL,
  person_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '',
  role VARCHAR(20) NOT NULL,
  created_at DATETIME(6) NOT NULL,
  used_at DATETIME(6) NULL,
  revoked_at DATETIME(6) NULL,
  UNIQUE KEY token_hash (token_hash)
);
-- Answers to requests that carried an idempotency key, to be given again.
CREATE TABLE answers (
  key_hash BINARY(32) PRIMARY KEY,
  request_hash BINARY(32) NOT NULL,
  status INT NOT NULL DEFAULT 0,
  body MEDIUMTEXT NULL,
  at DATETIME(6) NOT NULL,
  KEY at (at)
);
-- Who has a sheet open, by the database's clock.
CREATE TABLE presence (
  page VARCHAR(40) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  person_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  row_id BIGINT NOT NULL DEFAULT 0,
  column_id VARCHAR(20) NOT NULL DEFAULT '',
  seen_at DATETIME(6) NOT NULL,
  KEY sheet (sheet_id)
);

-- +goose Down
DROP TABLE presence, answers, tokens, forms, sources, jobs, views;
ALTER TABLE sheets DROP COLUMN name_column, DROP COLUMN language_column, DROP COLUMN last_column, DROP COLUMN order_version, DROP COLUMN live_rows, DROP COLUMN frozen,
  DROP COLUMN removed_columns, DROP COLUMN matched;
ALTER TABLE sheet_rows DROP KEY born, DROP COLUMN born;
ALTER TABLE events DROP KEY change_id, DROP COLUMN change_id;
UPDATE sheet_rows SET place = place DIV 1048576;

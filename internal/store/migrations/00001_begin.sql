-- +goose Up
CREATE TABLE people (
  id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  email VARCHAR(254) NOT NULL,
  name VARCHAR(120) NOT NULL,
  role VARCHAR(20) NOT NULL,
  password_hash VARCHAR(200) NOT NULL DEFAULT '',
  disabled BOOLEAN NOT NULL DEFAULT FALSE,
  failures INT NOT NULL DEFAULT 0,
  locked_until DATETIME(6) NULL,
  created_at DATETIME(6) NOT NULL,
  UNIQUE KEY email (email)
);
CREATE TABLE links (
  token_hash BINARY(32) PRIMARY KEY,
  person_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  purpose VARCHAR(20) NOT NULL,
  expires_at DATETIME(6) NOT NULL,
  used_at DATETIME(6) NULL
);
CREATE TABLE sessions (
  token_hash BINARY(32) PRIMARY KEY,
  data BLOB NOT NULL,
  expiry DATETIME(6) NOT NULL,
  KEY expiry (expiry)
);
CREATE TABLE settings (
  name VARCHAR(60) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  value MEDIUMTEXT NOT NULL
);
CREATE TABLE senders (
  id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  name VARCHAR(120) NOT NULL,
  address VARCHAR(254) NOT NULL,
  host VARCHAR(253) NOT NULL,
  port INT NOT NULL,
  security VARCHAR(20) NOT NULL,
  username VARCHAR(254) NOT NULL DEFAULT '',
  sealed_password VARBINARY(1000) NULL,
  created_at DATETIME(6) NOT NULL
);
CREATE TABLE sheets (
  id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  name VARCHAR(120) NOT NULL,
  zone VARCHAR(60) NOT NULL,
  locale VARCHAR(20) NOT NULL,
  settle_seconds INT NOT NULL,
  key_column VARCHAR(20) NOT NULL DEFAULT '',
  address_column VARCHAR(20) NOT NULL DEFAULT '',
  sender_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '',
  columns MEDIUMTEXT NOT NULL,
  version BIGINT NOT NULL DEFAULT 0,
  last_number BIGINT NOT NULL DEFAULT 0,
  created_at DATETIME(6) NOT NULL,
  deleted_at DATETIME(6) NULL
);
CREATE TABLE sheet_rows (
  id BIGINT AUTO_INCREMENT PRIMARY KEY,
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  number BIGINT NOT NULL,
  place BIGINT NOT NULL,
  row_key VARBINARY(255) NULL,
  cells MEDIUMBLOB NOT NULL,
  settled MEDIUMBLOB NULL,
  version BIGINT NOT NULL DEFAULT 1,
  first_edit DATETIME(6) NULL,
  last_edit DATETIME(6) NULL,
  settled_at DATETIME(6) NULL,
  gone BOOLEAN NOT NULL DEFAULT FALSE,
  deleted_at DATETIME(6) NULL,
  KEY place (sheet_id, place, id),
  KEY row_key (sheet_id, row_key)
);
CREATE TABLE rules (
  id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  letter VARCHAR(4) NOT NULL,
  name VARCHAR(120) NOT NULL,
  state VARCHAR(10) NOT NULL,
  body MEDIUMTEXT NOT NULL,
  version BIGINT NOT NULL DEFAULT 1,
  baseline_at DATETIME(6) NULL,
  arming_after BIGINT NULL,
  armed_rows BIGINT NOT NULL DEFAULT 0,
  created_at DATETIME(6) NOT NULL,
  deleted_at DATETIME(6) NULL,
  KEY sheet (sheet_id)
);
CREATE TABLE templates (
  id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  name VARCHAR(120) NOT NULL,
  subject MEDIUMTEXT NOT NULL,
  body MEDIUMTEXT NOT NULL,
  version BIGINT NOT NULL DEFAULT 1,
  created_at DATETIME(6) NOT NULL,
  deleted_at DATETIME(6) NULL,
  KEY sheet (sheet_id)
);
-- What must be considered, and when.
CREATE TABLE agenda (
  id BIGINT AUTO_INCREMENT PRIMARY KEY,
  kind VARCHAR(12) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  due_at DATETIME(6) NOT NULL,
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  rule_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '',
  row_id BIGINT NOT NULL DEFAULT 0,
  delivery_id BIGINT NOT NULL DEFAULT 0,
  since DATETIME(6) NULL,
  UNIQUE KEY what (kind, rule_id, row_id, delivery_id),
  KEY due (due_at, id),
  KEY row_id (row_id),
  KEY rule_id (rule_id)
);
-- What has become of each occasion, and what must be sent: the ledger. The
-- occasion's identity stands here once, for ever.
CREATE TABLE deliveries (
  id BIGINT AUTO_INCREMENT PRIMARY KEY,
  occasion BINARY(16) NOT NULL,
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  rule_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  row_id BIGINT NOT NULL,
  template_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '',
  sender_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '',
  due_at DATETIME(6) NOT NULL,
  judged_at DATETIME(6) NOT NULL,
  state VARCHAR(12) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  reason VARCHAR(1000) NOT NULL DEFAULT '',
  trouble VARCHAR(1000) NOT NULL DEFAULT '',
  blame VARCHAR(20) NOT NULL DEFAULT '',
  decision VARCHAR(12) NOT NULL DEFAULT '',
  origin TEXT NOT NULL,
  facts MEDIUMTEXT NOT NULL,
  recipients TEXT NOT NULL,
  reply_to TEXT NOT NULL,
  subject VARCHAR(1000) NOT NULL DEFAULT '',
  attempt INT NOT NULL DEFAULT 1,
  tries INT NOT NULL DEFAULT 0,
  first_try DATETIME(6) NULL,
  next_try DATETIME(6) NULL,
  worker BIGINT NULL,
  reply VARCHAR(1000) NOT NULL DEFAULT '',
  finished_at DATETIME(6) NULL,
  UNIQUE KEY occasion (occasion),
  KEY queue (next_try, id),
  KEY state (state, due_at),
  KEY due (due_at, id),
  KEY sheet (sheet_id, due_at),
  KEY row_id (row_id, due_at),
  KEY rule_id (rule_id, due_at)
);
CREATE TABLE letters (
  delivery_id BIGINT PRIMARY KEY,
  html MEDIUMTEXT NOT NULL,
  text MEDIUMTEXT NOT NULL
);
-- A process that sends. Its deliveries are its own while the lease, by the
-- database's clock, runs.
CREATE TABLE workers (
  id BIGINT AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(120) NOT NULL,
  lease_until DATETIME(6) NOT NULL
);
CREATE TABLE do_not_email (
  address_key VARBINARY(320) PRIMARY KEY,
  address VARCHAR(320) NOT NULL,
  reason VARCHAR(200) NOT NULL DEFAULT '',
  added_by VARCHAR(120) NOT NULL,
  added_at DATETIME(6) NOT NULL
);
-- Append-only: every change of cells, rules, templates, deliveries and
-- settings.
CREATE TABLE events (
  id BIGINT AUTO_INCREMENT PRIMARY KEY,
  at DATETIME(6) NOT NULL,
  actor VARCHAR(120) NOT NULL,
  kind VARCHAR(40) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '',
  row_id BIGINT NOT NULL DEFAULT 0,
  rule_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '',
  delivery_id BIGINT NOT NULL DEFAULT 0,
  detail MEDIUMTEXT NOT NULL,
  KEY row_id (row_id, id),
  KEY delivery_id (delivery_id, id),
  KEY sheet_id (sheet_id, id)
);
CREATE TABLE practice_messages (
  id BIGINT AUTO_INCREMENT PRIMARY KEY,
  received_at DATETIME(6) NOT NULL,
  envelope_from VARCHAR(320) NOT NULL,
  envelope_to TEXT NOT NULL,
  subject VARCHAR(1000) NOT NULL,
  message_id VARCHAR(320) NOT NULL,
  raw MEDIUMBLOB NOT NULL
);

-- +goose Down
DROP TABLE practice_messages, events, do_not_email, workers, letters, deliveries, agenda, templates, rules,
  sheet_rows, sheets, senders, settings, sessions, links, people;

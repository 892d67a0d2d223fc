-- What is kept of an email for ever is kept in little room; rows have files of their own; test
-- emails stand in the log.
-- +goose Up
CREATE TABLE shelf_files (
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  folded VARBINARY(1200) NOT NULL,
  name VARCHAR(200) NOT NULL,
  file BINARY(32) NOT NULL,
  added_by VARCHAR(120) NOT NULL,
  added_at DATETIME(6) NOT NULL,
  PRIMARY KEY (sheet_id, folded)
);
-- A letter is kept as its difference from what its wording wrote first (store/letters.go).
CREATE TABLE letter_bases (
  id BIGINT AUTO_INCREMENT PRIMARY KEY,
  template_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  version BIGINT NOT NULL,
  variant INT NOT NULL,
  content MEDIUMBLOB NOT NULL,
  UNIQUE KEY wording (template_id, version, variant)
);
ALTER TABLE letters
  ADD COLUMN base_id BIGINT NOT NULL DEFAULT 0,
  ADD COLUMN pack MEDIUMBLOB NOT NULL DEFAULT '';
UPDATE letters SET pack = CONCAT(CHAR(0), JSON_OBJECT('html', html, 'text', text, 'carried', carried, 'optOut', opt_out));
ALTER TABLE letters DROP COLUMN html, DROP COLUMN text, DROP COLUMN carried, DROP COLUMN opt_out;
-- What messages said of who sent them, for as long as they are shown.
CREATE TABLE identities (
  id BIGINT AUTO_INCREMENT PRIMARY KEY,
  digest BINARY(32) NOT NULL,
  name VARCHAR(200) NOT NULL,
  address VARCHAR(320) NOT NULL,
  public_url VARCHAR(500) NOT NULL,
  UNIQUE KEY digest (digest)
);
ALTER TABLE deliveries ADD COLUMN identity_id BIGINT NOT NULL DEFAULT 0 AFTER dated_at;
CREATE TABLE test_emails (
  id BIGINT AUTO_INCREMENT PRIMARY KEY,
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  template_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  template_name VARCHAR(120) NOT NULL,
  version BIGINT NOT NULL,
  row_id BIGINT NOT NULL,
  row_name VARCHAR(1000) NOT NULL,
  why TEXT NOT NULL,
  sent_by VARCHAR(120) NOT NULL,
  sent_at DATETIME(6) NOT NULL,
  sender_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  identity_id BIGINT NOT NULL,
  recipients TEXT NOT NULL,
  subject VARCHAR(1000) NOT NULL,
  message_id VARCHAR(320) NOT NULL,
  pack MEDIUMBLOB NOT NULL,
  KEY sent (sent_at, id),
  KEY sheet (sheet_id, id),
  KEY row_id (row_id, id)
);
ALTER TABLE deliveries PAGE_COMPRESSED = 1;
ALTER TABLE letters PAGE_COMPRESSED = 1;
ALTER TABLE events PAGE_COMPRESSED = 1;

-- +goose Down
ALTER TABLE events PAGE_COMPRESSED = 0;
ALTER TABLE letters PAGE_COMPRESSED = 0;
ALTER TABLE deliveries PAGE_COMPRESSED = 0;
-- Letters that were packed since stay packed: an older version shows them without their words.
ALTER TABLE letters
  ADD COLUMN html MEDIUMTEXT NOT NULL DEFAULT '',
  ADD COLUMN text MEDIUMTEXT NOT NULL DEFAULT '',
  ADD COLUMN carried MEDIUMTEXT NULL,
  ADD COLUMN opt_out BOOLEAN NOT NULL DEFAULT FALSE;
UPDATE letters SET
  html = JSON_VALUE(CONVERT(SUBSTRING(pack, 2) USING utf8mb4), '$.html'),
  text = JSON_VALUE(CONVERT(SUBSTRING(pack, 2) USING utf8mb4), '$.text'),
  carried = NULLIF(JSON_VALUE(CONVERT(SUBSTRING(pack, 2) USING utf8mb4), '$.carried'), 'null'),
  opt_out = COALESCE(JSON_VALUE(CONVERT(SUBSTRING(pack, 2) USING utf8mb4), '$.optOut') = 1, FALSE)
  WHERE SUBSTRING(pack, 1, 1) = CHAR(0);
ALTER TABLE letters DROP COLUMN base_id, DROP COLUMN pack;
ALTER TABLE deliveries DROP COLUMN identity_id;
DROP TABLE test_emails, identities, letter_bases, shelf_files;

-- A template is one text as a whole and keeps its versions; what emails carry is kept once
-- by its content; pieces of text are used by many templates; a sender signs.
-- +goose Up
ALTER TABLE templates
  ADD COLUMN content MEDIUMTEXT NOT NULL DEFAULT '' AFTER name;
UPDATE templates SET content = CONCAT('{"name":', JSON_QUOTE(name), ',"subject":', subject, ',"body":', body,
  IF(language = '', '', CONCAT(',"language":', JSON_QUOTE(language))), IF(variants IS NULL, '', CONCAT(',"variants":', variants)), '}');
ALTER TABLE templates DROP COLUMN subject, DROP COLUMN body, DROP COLUMN language, DROP COLUMN variants;
CREATE TABLE template_versions (
  template_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  version BIGINT NOT NULL,
  content MEDIUMTEXT NOT NULL,
  saved_by VARCHAR(120) NOT NULL,
  saved_at DATETIME(6) NOT NULL,
  PRIMARY KEY (template_id, version)
);
INSERT INTO template_versions (template_id, version, content, saved_by, saved_at)
  SELECT id, version, content, '', created_at FROM templates;
CREATE TABLE files (
  id BINARY(32) PRIMARY KEY,
  type VARCHAR(120) NOT NULL,
  size BIGINT NOT NULL,
  data LONGBLOB NOT NULL,
  created_at DATETIME(6) NOT NULL
);
CREATE TABLE pieces (
  id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  name VARCHAR(120) NOT NULL,
  content MEDIUMTEXT NOT NULL,
  version BIGINT NOT NULL DEFAULT 1,
  created_at DATETIME(6) NOT NULL,
  deleted_at DATETIME(6) NULL
);
CREATE TABLE shelf_files (
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  folded VARBINARY(1200) NOT NULL,
  name VARCHAR(200) NOT NULL,
  file BINARY(32) NOT NULL,
  added_by VARCHAR(120) NOT NULL,
  added_at DATETIME(6) NOT NULL,
  PRIMARY KEY (sheet_id, folded)
);
ALTER TABLE deliveries ADD COLUMN dated_at DATETIME(6) NULL AFTER sending_at;
UPDATE deliveries SET dated_at = finished_at WHERE state NOT IN ('skipped', 'incomplete', 'missed') AND finished_at IS NOT NULL;
ALTER TABLE senders ADD COLUMN signature MEDIUMTEXT NULL;
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
UPDATE letters SET pack = CONCAT(CHAR(0), JSON_OBJECT('html', html, 'text', text));
ALTER TABLE letters DROP COLUMN html, DROP COLUMN text;
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
-- What is kept for ever is kept in little room.
ALTER TABLE deliveries PAGE_COMPRESSED = 1;
ALTER TABLE letters PAGE_COMPRESSED = 1;
ALTER TABLE events PAGE_COMPRESSED = 1;

-- +goose Down
ALTER TABLE events PAGE_COMPRESSED = 0;
ALTER TABLE letters PAGE_COMPRESSED = 0;
ALTER TABLE deliveries PAGE_COMPRESSED = 0;
-- Letters that were packed since stay packed: an older version shows them without their words.
ALTER TABLE letters ADD COLUMN html MEDIUMTEXT NOT NULL DEFAULT '', ADD COLUMN text MEDIUMTEXT NOT NULL DEFAULT '';
UPDATE letters SET html = JSON_VALUE(CONVERT(SUBSTRING(pack, 2) USING utf8mb4), '$.html'), text = JSON_VALUE(CONVERT(SUBSTRING(pack, 2) USING utf8mb4), '$.text') WHERE SUBSTRING(pack, 1, 1) = CHAR(0);
ALTER TABLE letters DROP COLUMN base_id, DROP COLUMN pack;
DROP TABLE letter_bases, identities, test_emails;
ALTER TABLE deliveries DROP COLUMN identity_id;
ALTER TABLE senders DROP COLUMN signature;
ALTER TABLE deliveries DROP COLUMN dated_at;
DROP TABLE shelf_files, pieces, files, template_versions;
ALTER TABLE templates
  ADD COLUMN subject MEDIUMTEXT NOT NULL DEFAULT '',
  ADD COLUMN body MEDIUMTEXT NOT NULL DEFAULT '',
  ADD COLUMN language VARCHAR(20) NOT NULL DEFAULT '',
  ADD COLUMN variants MEDIUMTEXT NULL;
UPDATE templates SET subject = JSON_EXTRACT(content, '$.subject'), body = JSON_EXTRACT(content, '$.body'),
  language = COALESCE(JSON_VALUE(content, '$.language'), ''), variants = JSON_EXTRACT(content, '$.variants');
ALTER TABLE templates DROP COLUMN content;

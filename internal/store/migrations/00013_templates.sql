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
ALTER TABLE deliveries ADD COLUMN dated_at DATETIME(6) NULL AFTER sending_at;
UPDATE deliveries SET dated_at = finished_at WHERE state NOT IN ('skipped', 'incomplete', 'missed') AND finished_at IS NOT NULL;
ALTER TABLE senders ADD COLUMN signature MEDIUMTEXT NULL;
ALTER TABLE letters
  ADD COLUMN carried MEDIUMTEXT NULL,
  ADD COLUMN opt_out BOOLEAN NOT NULL DEFAULT FALSE;

-- +goose Down
ALTER TABLE letters DROP COLUMN carried, DROP COLUMN opt_out;
ALTER TABLE senders DROP COLUMN signature;
ALTER TABLE deliveries DROP COLUMN dated_at;
DROP TABLE pieces, files, template_versions;
ALTER TABLE templates
  ADD COLUMN subject MEDIUMTEXT NOT NULL DEFAULT '',
  ADD COLUMN body MEDIUMTEXT NOT NULL DEFAULT '',
  ADD COLUMN language VARCHAR(20) NOT NULL DEFAULT '',
  ADD COLUMN variants MEDIUMTEXT NULL;
UPDATE templates SET subject = JSON_EXTRACT(content, '$.subject'), body = JSON_EXTRACT(content, '$.body'),
  language = COALESCE(JSON_VALUE(content, '$.language'), ''), variants = JSON_EXTRACT(content, '$.variants');
ALTER TABLE templates DROP COLUMN content;

-- +goose Up
-- Working calendars are several and named; a sheet has one, '' being the
-- default, whose id is 'default'.
CREATE TABLE calendars (
  id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY,
  name VARCHAR(120) NOT NULL,
  weekdays VARCHAR(60) NOT NULL,
  closed MEDIUMTEXT NOT NULL,
  created_at DATETIME(6) NOT NULL,
  UNIQUE KEY name (name)
);
INSERT INTO calendars SELECT 'default', 'Working days', '["mon","tue","wed","thu","fri"]', '[]', UTC_TIMESTAMP(6);
UPDATE calendars c JOIN settings s ON s.name = 'calendar'
  SET c.weekdays = COALESCE(JSON_EXTRACT(s.value, '$.weekdays'), c.weekdays), c.closed = COALESCE(JSON_EXTRACT(s.value, '$.closed'), c.closed);
DELETE FROM settings WHERE name = 'calendar';
ALTER TABLE sheets ADD COLUMN calendar_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '' AFTER locale;

-- +goose Down
ALTER TABLE sheets DROP COLUMN calendar_id;
INSERT INTO settings SELECT 'calendar', JSON_OBJECT('weekdays', JSON_QUERY(weekdays, '$'), 'closed', JSON_QUERY(closed, '$')) FROM calendars WHERE id = 'default';
DROP TABLE calendars;

-- +goose Up
-- Why an email goes, waits or does not go is a code with parameters, as JSON.
-- Sentences of before that something was decided by become codes; the others
-- are kept as they were said.
ALTER TABLE deliveries MODIFY COLUMN reason TEXT NOT NULL, MODIFY COLUMN trouble TEXT NOT NULL;
UPDATE deliveries SET reason = CASE
  WHEN reason = '' THEN ''
  WHEN reason = 'all sending is switched off' THEN '{"code":"sending-off"}'
  WHEN reason = 'the rule asks first' THEN '{"code":"asks-first"}'
  WHEN reason = 'the rule''s first run waits to be looked through' THEN '{"code":"first-run"}'
  WHEN reason = 'mended, and waits for its send window' THEN '{"code":"window"}'
  WHEN reason = 'was past when the rule was switched on' THEN '{"code":"baseline"}'
  WHEN reason = 'the brake holds the rule: more emails at once than expected' THEN '{"code":"brake"}'
  WHEN reason LIKE 'over the sender''s daily cap%' THEN '{"code":"daily-cap"}'
  WHEN reason = 'row deleted' THEN '{"code":"row-deleted"}'
  WHEN reason LIKE 'same moment%' THEN '{"code":"same-moment"}'
  WHEN reason LIKE 'condition false: %' THEN JSON_OBJECT('code', 'condition-false', 'clause', SUBSTRING(reason, 18))
  WHEN reason = 'no wording fits' THEN '{"code":"no-wording"}'
  WHEN reason = 'repeat: the row has had its email' THEN '{"code":"repeat-once"}'
  WHEN reason LIKE 'do-not-email:%' THEN '{"code":"do-not-email"}'
  WHEN reason LIKE 'stopped: %' THEN JSON_OBJECT('code', 'stopped', 'clause', SUBSTRING(reason, 10))
  WHEN reason = 'the first email did not go' THEN '{"code":"first-did-not-go"}'
  WHEN reason = 'the date it hung on has been moved' THEN '{"code":"date-moved"}'
  WHEN reason = 'the rule is not there any more' THEN '{"code":"rule-gone"}'
  WHEN reason = 'the sheet is not there any more' THEN '{"code":"sheet-gone"}'
  ELSE JSON_OBJECT('code', 'said', 'value', reason) END;
UPDATE deliveries SET trouble = CASE
  WHEN trouble = '' THEN ''
  WHEN trouble = 'put off by the mail server' THEN '{"code":"put-off"}'
  WHEN trouble LIKE 'refused by the mail server: %' THEN JSON_OBJECT('code', 'refused', 'value', SUBSTRING(trouble, 29))
  WHEN trouble LIKE 'the mail server cannot be reached: %' THEN JSON_OBJECT('code', 'unreachable', 'value', SUBSTRING(trouble, 36))
  WHEN trouble LIKE 'given up after 24 hours: %' THEN JSON_OBJECT('code', 'given-up', 'of', JSON_OBJECT('code', 'said', 'value', SUBSTRING(trouble, 26)))
  ELSE JSON_OBJECT('code', 'said', 'value', trouble) END;
-- What waits is on the agenda by row and rule, as all else that is to come.
UPDATE agenda a JOIN deliveries d ON d.id = a.delivery_id SET a.rule_id = d.rule_id, a.row_id = d.row_id WHERE a.kind IN ('late', 'review');
-- What fell due between a pause and its end never did.
ALTER TABLE rules ADD COLUMN resumed_at DATETIME(6) NULL AFTER paused_at;

-- +goose Down
ALTER TABLE rules DROP COLUMN resumed_at;
UPDATE agenda SET rule_id = '', row_id = 0 WHERE kind IN ('late', 'review');
UPDATE deliveries SET reason = COALESCE(JSON_VALUE(reason, '$.value'), JSON_VALUE(reason, '$.code'), '') WHERE reason <> '';
UPDATE deliveries SET trouble = COALESCE(JSON_VALUE(trouble, '$.value'), JSON_VALUE(trouble, '$.code'), '') WHERE trouble <> '';
ALTER TABLE deliveries MODIFY COLUMN reason VARCHAR(1000) NOT NULL DEFAULT '', MODIFY COLUMN trouble VARCHAR(1000) NOT NULL DEFAULT '';

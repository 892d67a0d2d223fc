-- What sending updates in a delivery keeps its size from the start (store/room.go): a row that
-- grows makes the database write its page anew, 17 kB an email where 1 kB does. And an email that
-- goes as it should has no events of its own: its row says the same (store/events.go).
-- +goose Up
UPDATE deliveries SET
  first_try = COALESCE(first_try, '9999-12-31'),
  sending_at = COALESCE(sending_at, '9999-12-31'),
  dated_at = COALESCE(dated_at, '9999-12-31'),
  next_try = COALESCE(next_try, '9999-12-31'),
  finished_at = COALESCE(finished_at, '9999-12-31'),
  worker = COALESCE(worker, 0);
ALTER TABLE deliveries
  DROP KEY pending,
  DROP COLUMN pending,
  MODIFY COLUMN state ENUM('skipped', 'incomplete', 'missed', 'held', 'dropped', 'queued', 'claimed', 'sending',
    'accepted', 'deferred', 'failed', 'in-doubt', 'bounced') CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  MODIFY COLUMN first_try DATETIME(6) NOT NULL DEFAULT '9999-12-31',
  MODIFY COLUMN sending_at DATETIME(6) NOT NULL DEFAULT '9999-12-31',
  MODIFY COLUMN dated_at DATETIME(6) NOT NULL DEFAULT '9999-12-31',
  MODIFY COLUMN next_try DATETIME(6) NOT NULL DEFAULT '9999-12-31',
  MODIFY COLUMN finished_at DATETIME(6) NOT NULL DEFAULT '9999-12-31',
  MODIFY COLUMN worker BIGINT NOT NULL DEFAULT 0,
  ADD COLUMN own_events TINYINT NOT NULL DEFAULT 0,
  ADD COLUMN pending TINYINT AS (CASE state
    WHEN 'in-doubt' THEN IF(decision = '', 1, 21)
    WHEN 'held' THEN IF(decision = '', 2, 22)
    WHEN 'bounced' THEN IF(decision = '', 3, 23)
    WHEN 'failed' THEN IF(decision = '', 4, 24)
    WHEN 'incomplete' THEN IF(decision = '', 5, 25)
    WHEN 'missed' THEN IF(decision = '', 6, 26)
    WHEN 'queued' THEN 11
    WHEN 'claimed' THEN 12
    WHEN 'sending' THEN 12
    WHEN 'deferred' THEN 13
    ELSE 0
  END) STORED,
  ADD KEY pending (pending, sheet_id, due_at);
-- +goose Down
INSERT INTO events (at, actor, kind, sheet_id, row_id, rule_id, delivery_id, detail)
  SELECT judged_at, 'nivot', 'delivery-queued', sheet_id, row_id, rule_id, id, '{}' FROM deliveries WHERE own_events > 0;
INSERT INTO events (at, actor, kind, sheet_id, row_id, rule_id, delivery_id, detail)
  SELECT finished_at, 'nivot', 'delivery-accepted', sheet_id, row_id, rule_id, id, JSON_OBJECT('attempt', attempt,
    'sending', DATE_FORMAT(sending_at, '%Y-%m-%dT%H:%i:%s.%fZ'), 'reply', TRIM(TRAILING ' ' FROM reply), 'try', tries)
  FROM deliveries WHERE own_events > 1;
ALTER TABLE deliveries
  DROP COLUMN own_events,
  DROP KEY pending,
  DROP COLUMN pending,
  MODIFY COLUMN state VARCHAR(12) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  MODIFY COLUMN first_try DATETIME(6) NULL,
  MODIFY COLUMN sending_at DATETIME(6) NULL,
  MODIFY COLUMN dated_at DATETIME(6) NULL,
  MODIFY COLUMN next_try DATETIME(6) NULL,
  MODIFY COLUMN finished_at DATETIME(6) NULL,
  MODIFY COLUMN worker BIGINT NULL;
UPDATE deliveries SET
  first_try = NULLIF(first_try, '9999-12-31'),
  sending_at = NULLIF(sending_at, '9999-12-31'),
  dated_at = NULLIF(dated_at, '9999-12-31'),
  next_try = NULLIF(next_try, '9999-12-31'),
  finished_at = NULLIF(finished_at, '9999-12-31'),
  worker = NULLIF(worker, 0),
  reply = TRIM(TRAILING ' ' FROM reply);
ALTER TABLE deliveries
  ADD COLUMN pending TINYINT AS (CASE state
    WHEN 'in-doubt' THEN IF(decision = '', 1, 21)
    WHEN 'held' THEN IF(decision = '', 2, 22)
    WHEN 'bounced' THEN IF(decision = '', 3, 23)
    WHEN 'failed' THEN IF(decision = '', 4, 24)
    WHEN 'incomplete' THEN IF(decision = '', 5, 25)
    WHEN 'missed' THEN IF(decision = '', 6, 26)
    WHEN 'queued' THEN 11
    WHEN 'claimed' THEN 12
    WHEN 'sending' THEN 12
    WHEN 'deferred' THEN 13
  END) STORED,
  ADD KEY pending (pending, sheet_id, due_at);

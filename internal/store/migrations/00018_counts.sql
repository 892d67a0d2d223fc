-- The log and Today at any size: counts of deliveries are kept beside them (store/counts.go),
-- what is not over has an index of its own that stays small, and who was written to is a
-- table (store/addressees.go).
-- +goose Up
CREATE TABLE delivery_counts (
  quarter INT NOT NULL,
  rule_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  state VARCHAR(12) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  shard TINYINT UNSIGNED NOT NULL,
  n BIGINT NOT NULL,
  PRIMARY KEY (quarter, rule_id, sheet_id, state, shard)
);
INSERT INTO delivery_counts (quarter, rule_id, sheet_id, state, shard, n)
  SELECT FLOOR(TIMESTAMPDIFF(SECOND, '1970-01-01', due_at) / 900) AS q, rule_id, sheet_id,
    IF(state IN ('claimed', 'sending'), 'queued', state) AS counted, 0, COUNT(*)
  FROM deliveries GROUP BY q, rule_id, sheet_id, counted;
INSERT INTO delivery_counts (quarter, rule_id, sheet_id, state, shard, n)
  SELECT -2147483648, rule_id, sheet_id, state, 0, SUM(n) FROM delivery_counts GROUP BY rule_id, sheet_id, state;
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
  DROP KEY state,
  ADD KEY pending (pending, sheet_id, due_at);
CREATE TABLE addressees (
  id BIGINT AUTO_INCREMENT PRIMARY KEY,
  digest BINARY(16) NOT NULL,
  mailbox VARCHAR(500) NOT NULL,
  searched VARBINARY(2000) NULL,
  UNIQUE KEY digest (digest)
) PAGE_COMPRESSED = 1;
CREATE TABLE delivery_addressees (
  addressee_id BIGINT NOT NULL,
  due_at DATETIME(6) NOT NULL,
  delivery_id BIGINT NOT NULL,
  PRIMARY KEY (addressee_id, due_at, delivery_id)
) PAGE_COMPRESSED = 1;
INSERT IGNORE INTO addressees (digest, mailbox)
  SELECT UNHEX(LEFT(SHA2(j.mailbox, 256), 32)), j.mailbox FROM deliveries d,
    JSON_TABLE(IF(JSON_VALID(d.recipients), d.recipients, '[]'), '$[*]' COLUMNS (mailbox VARCHAR(500) PATH '$.mailbox')) j
  WHERE j.mailbox IS NOT NULL;
INSERT IGNORE INTO delivery_addressees (addressee_id, due_at, delivery_id)
  SELECT a.id, d.due_at, d.id FROM deliveries d
    JOIN JSON_TABLE(IF(JSON_VALID(d.recipients), d.recipients, '[]'), '$[*]' COLUMNS (mailbox VARCHAR(500) PATH '$.mailbox')) j
    JOIN addressees a ON a.digest = UNHEX(LEFT(SHA2(j.mailbox, 256), 32));
ALTER TABLE test_emails MODIFY COLUMN subject TEXT NOT NULL;
-- +goose Down
UPDATE test_emails SET subject = LEFT(subject, 1000);
ALTER TABLE test_emails MODIFY COLUMN subject VARCHAR(1000) NOT NULL;
DROP TABLE delivery_addressees, addressees, delivery_counts;
ALTER TABLE deliveries DROP KEY pending, DROP COLUMN pending, ADD KEY state (state, due_at);

-- What a rule has on the agenda of its own looking (due, round, arm) counts in the rule's generation only;
-- generation 0 is what hangs on no generation. Of large sheets the agenda holds what is due before armed_until,
-- and the first rows after it (engine/arming.go).
-- +goose Up
ALTER TABLE rules
  ADD COLUMN generation BIGINT NOT NULL DEFAULT 1,
  ADD COLUMN arming_since DATETIME(6) NULL,
  ADD COLUMN armed_until DATETIME(6) NULL,
  ADD COLUMN beyond_at DATETIME(6) NULL;
ALTER TABLE agenda ADD COLUMN generation BIGINT NOT NULL DEFAULT 0;
UPDATE agenda SET generation = 1 WHERE kind IN ('due', 'round', 'arm');
UPDATE rules r JOIN agenda a ON a.rule_id = r.id AND a.kind = 'arm' SET r.arming_since = a.since;
ALTER TABLE agenda DROP KEY rule_id, ADD KEY rule (rule_id, generation, due_at);
-- +goose Down
DELETE a FROM agenda a LEFT JOIN rules r ON r.id = a.rule_id
  WHERE a.kind = 'sweep' OR a.generation > 0 AND (r.id IS NULL OR a.generation <> r.generation);
INSERT INTO agenda (kind, due_at, sheet_id, rule_id, since) SELECT 'arm', UTC_TIMESTAMP(6), sheet_id, id, armed_until
  FROM rules WHERE state = 'on' AND armed_until IS NOT NULL
  ON DUPLICATE KEY UPDATE due_at = VALUES(due_at);
UPDATE rules SET arming_after = 0, armed_rows = 0 WHERE state = 'on' AND armed_until IS NOT NULL;
ALTER TABLE agenda DROP KEY rule, ADD KEY rule_id (rule_id), DROP COLUMN generation;
ALTER TABLE rules DROP COLUMN generation, DROP COLUMN arming_since, DROP COLUMN armed_until, DROP COLUMN beyond_at;

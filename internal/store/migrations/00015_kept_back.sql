-- What is deleted can be restored for a while; sheets can be put away; rows that a rule
-- cannot judge can be taken as meant; pages say which rule or template they have open.
-- +goose Up
ALTER TABLE rules ADD COLUMN unjudged_known INT NOT NULL DEFAULT 0;
ALTER TABLE people
  ADD COLUMN deleted_at DATETIME(6) NULL,
  ADD COLUMN deleted_by VARCHAR(120) NOT NULL DEFAULT '';
ALTER TABLE views ADD COLUMN deleted_at DATETIME(6) NULL;
ALTER TABLE sheets
  ADD COLUMN put_away_at DATETIME(6) NULL,
  ADD COLUMN away_by VARCHAR(120) NOT NULL DEFAULT '';
ALTER TABLE presence ADD COLUMN thing VARCHAR(40) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE presence DROP COLUMN thing;
ALTER TABLE sheets DROP COLUMN put_away_at, DROP COLUMN away_by;
DELETE FROM views WHERE deleted_at IS NOT NULL;
ALTER TABLE views DROP COLUMN deleted_at;
UPDATE people SET disabled = TRUE WHERE deleted_at IS NOT NULL;
ALTER TABLE people DROP COLUMN deleted_at, DROP COLUMN deleted_by;
ALTER TABLE rules DROP COLUMN unjudged_known;

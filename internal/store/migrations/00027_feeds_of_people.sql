-- A feed ends with what its maker may do, as a token does. One whose maker is not known any more leads nowhere.
-- +goose Up
ALTER TABLE feeds
  ADD COLUMN person_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '',
  ADD COLUMN epoch INT NOT NULL DEFAULT 0;
UPDATE feeds JOIN people ON people.name = feeds.made_by SET feeds.person_id = people.id, feeds.epoch = people.epoch;
-- +goose Down
ALTER TABLE feeds DROP COLUMN person_id, DROP COLUMN epoch;

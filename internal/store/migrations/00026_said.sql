-- What the emails of the last twelve hours say, by the occasion: who sends the same words finds them here
-- (store/said.go).
-- +goose Up
CREATE TABLE said (
  occasion BINARY(16) NOT NULL PRIMARY KEY,
  words BINARY(16) NOT NULL,
  at DATETIME(6) NOT NULL,
  KEY words (words)
);
-- A sending by hand says itself whether it skips what says what another email says.
ALTER TABLE batches ADD COLUMN same_words VARCHAR(8) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '';
-- +goose Down
ALTER TABLE batches DROP COLUMN same_words;
DROP TABLE said;

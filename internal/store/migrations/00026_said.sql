-- What the emails of the last twelve hours say, by the occasion: who sends the same words finds them here
-- (store/said.go).
-- +goose Up
CREATE TABLE said (
  occasion BINARY(16) NOT NULL PRIMARY KEY,
  words BINARY(16) NOT NULL,
  at DATETIME(6) NOT NULL,
  KEY words (words)
);
-- +goose Down
DROP TABLE said;

-- What keeps two nodes of a cluster from counting the same thing at the same time (store/cluster.go).
-- +goose Up
CREATE TABLE guards (
  name VARCHAR(30) CHARACTER SET ascii COLLATE ascii_bin NOT NULL PRIMARY KEY,
  n BIGINT NOT NULL
);
-- +goose Down
DROP TABLE guards;

-- Whether what a process has read of a sheet, its rules and letters still is so (store/stamps.go).
-- +goose Up
CREATE TABLE stamps (
  name VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL PRIMARY KEY,
  stamp VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL
);
INSERT INTO stamps (name, stamp) SELECT id, 'first' FROM sheets UNION ALL SELECT '', 'first';
-- +goose Down
DROP TABLE stamps;

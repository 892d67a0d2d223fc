-- What came in by forms and waits for the owner of its address to confirm it; of what was
-- confirmed, that the address was.
-- +goose Up
CREATE TABLE intakes (
  token_hash BINARY(32) PRIMARY KEY,
  sheet_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  address_key VARBINARY(1020) NOT NULL,
  answers MEDIUMTEXT NOT NULL,
  at DATETIME(6) NOT NULL,
  confirmed_at DATETIME(6) NULL,
  KEY sheet (sheet_id, at),
  KEY address (sheet_id, address_key, at)
);

-- +goose Down
DROP TABLE intakes;

-- People are found by keys that are compared as bytes; what ends their sessions, links and
-- tokens is counted; a session says whose it is, and stays ended; who did a thing is an id;
-- and an audit is appended to.
-- +goose Up
DELETE FROM sessions;
ALTER TABLE sessions
  ADD COLUMN person_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '',
  ADD COLUMN created_at DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6),
  ADD COLUMN seen_at DATETIME(6) NOT NULL DEFAULT CURRENT_TIMESTAMP(6),
  ADD COLUMN network VARCHAR(45) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '',
  ADD COLUMN agent VARCHAR(300) NOT NULL DEFAULT '',
  ADD COLUMN ended_at DATETIME(6) NULL,
  ADD KEY person_id (person_id, network);
ALTER TABLE people
  ADD COLUMN email_key VARBINARY(1020) NULL,
  ADD COLUMN name_key VARBINARY(1020) NULL,
  ADD COLUMN epoch INT NOT NULL DEFAULT 0,
  DROP COLUMN failures,
  DROP COLUMN locked_until,
  DROP KEY email,
  ADD UNIQUE KEY email_key (email_key),
  ADD UNIQUE KEY name_key (name_key);
ALTER TABLE links ADD COLUMN epoch INT NOT NULL DEFAULT 0;
ALTER TABLE tokens
  ADD COLUMN epoch INT NOT NULL DEFAULT 0,
  ADD COLUMN expires_at DATETIME(6) NULL;
ALTER TABLE events ADD COLUMN actor_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '';
ALTER TABLE jobs ADD COLUMN person_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '';
CREATE TABLE audit (
  id BIGINT AUTO_INCREMENT PRIMARY KEY,
  at DATETIME(6) NOT NULL,
  actor_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '',
  actor VARCHAR(254) NOT NULL,
  network VARCHAR(45) CHARACTER SET ascii COLLATE ascii_bin NOT NULL DEFAULT '',
  act VARCHAR(40) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  subject VARCHAR(300) NOT NULL DEFAULT '',
  was TEXT NOT NULL DEFAULT '',
  became TEXT NOT NULL DEFAULT '',
  KEY act (act, id),
  KEY actor_id (actor_id, id)
);

-- +goose Down
DROP TABLE audit;
ALTER TABLE jobs DROP COLUMN person_id;
ALTER TABLE events DROP COLUMN actor_id;
ALTER TABLE tokens DROP COLUMN epoch, DROP COLUMN expires_at;
ALTER TABLE links DROP COLUMN epoch;
DELETE FROM sessions;
ALTER TABLE sessions
  DROP KEY person_id,
  DROP COLUMN person_id, DROP COLUMN created_at, DROP COLUMN seen_at, DROP COLUMN network, DROP COLUMN agent, DROP COLUMN ended_at;
ALTER TABLE people
  DROP KEY email_key, DROP KEY name_key,
  DROP COLUMN email_key, DROP COLUMN name_key, DROP COLUMN epoch,
  ADD COLUMN failures INT NOT NULL DEFAULT 0,
  ADD COLUMN locked_until DATETIME(6) NULL,
  ADD KEY email (email);

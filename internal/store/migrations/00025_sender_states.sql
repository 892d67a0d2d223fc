-- How each sender does (store/senderstates.go): whether it rests, until when its pace lets nothing go, how
-- many connections its server allows. And what is queued is found by sender, so that one that cannot send
-- holds up nobody else.
-- +goose Up
CREATE TABLE sender_states (
  sender_id VARCHAR(20) CHARACTER SET ascii COLLATE ascii_bin NOT NULL PRIMARY KEY,
  available_at DATETIME(6) NULL,
  rests_since DATETIME(6) NULL,
  probe_at DATETIME(6) NULL,
  probes INT NOT NULL DEFAULT 0,
  trouble TEXT NOT NULL,
  reply TEXT NOT NULL,
  most_connections INT NOT NULL DEFAULT 0,
  learned_at DATETIME(6) NULL,
  most_bytes BIGINT NOT NULL DEFAULT 0
);
ALTER TABLE senders
  ADD COLUMN position INT NOT NULL DEFAULT 0,
  ADD COLUMN max_connections INT NOT NULL DEFAULT 0;
SET @place = -1;
UPDATE senders SET position = (@place := @place + 1) ORDER BY created_at, id;
ALTER TABLE deliveries DROP KEY queue, ADD KEY queue (sender_id, next_try, id);
-- +goose Down
ALTER TABLE deliveries DROP KEY queue, ADD KEY queue (next_try, id);
ALTER TABLE senders DROP COLUMN position, DROP COLUMN max_connections;
DROP TABLE sender_states;

-- A practice mail has whatever subject it came with.
-- +goose Up
ALTER TABLE practice_messages MODIFY subject MEDIUMTEXT NOT NULL, MODIFY message_id TEXT NOT NULL;
-- +goose Down
UPDATE practice_messages SET subject = LEFT(subject, 1000), message_id = LEFT(message_id, 320);
ALTER TABLE practice_messages MODIFY subject VARCHAR(1000) NOT NULL, MODIFY message_id VARCHAR(320) NOT NULL;

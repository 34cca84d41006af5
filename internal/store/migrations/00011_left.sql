-- +goose Up
-- When somebody left a workflow as it is, though few need what it tells.
ALTER TABLE workflows ADD COLUMN left_at timestamptz;
-- In the square people change what they have said, or take it away; and it knows what a program has said by the program's mark.
CREATE SEQUENCE practice.changes;
ALTER TABLE practice.posts ADD COLUMN changed bigint, ADD COLUMN gone boolean NOT NULL DEFAULT false, ADD COLUMN mark text NOT NULL DEFAULT '';
CREATE INDEX posts_changed ON practice.posts (channel, changed) WHERE changed IS NOT NULL;
-- Some chats have two ids of a post: its author's, by which it is corrected, and the room's, by which it is answered.
CREATE INDEX posts_remote_room ON posts (split_part(remote_id, ' ', 2)) WHERE split_part(remote_id, ' ', 2) <> '';
-- Where a practice app asks before it does something.
CREATE TABLE practice.gates (app text PRIMARY KEY, address text NOT NULL, token text NOT NULL);

-- +goose Down
DROP TABLE practice.gates;
DROP INDEX posts_remote_room;
ALTER TABLE practice.posts DROP COLUMN changed, DROP COLUMN gone, DROP COLUMN mark;
DROP SEQUENCE practice.changes;
ALTER TABLE workflows DROP COLUMN left_at;

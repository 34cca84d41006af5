-- +goose Up
-- A try is written when it begins, and is open until what came of it is known.
ALTER TABLE attempts ADD COLUMN open boolean NOT NULL DEFAULT false;
CREATE INDEX attempts_open ON attempts (post) WHERE open;
-- A post whose refusal was its own fault is set aside alone: what waits behind it goes on. Posts of a place that were set aside with
-- no success between them are counted.
ALTER TABLE posts ADD COLUMN aside boolean NOT NULL DEFAULT false;
ALTER TABLE destinations ADD COLUMN aside bigint[] NOT NULL DEFAULT '{}';
-- Where a place is too long to be a key, its name is a short one with a digest, and this is the whole of it.
ALTER TABLE destinations ADD COLUMN place text NOT NULL DEFAULT '';
-- The workflows through which an arrival came that Dorfbote itself has caused, by a post to a hook of its own: w7.w12
ALTER TABLE arrivals ADD COLUMN through text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE arrivals DROP COLUMN through;
ALTER TABLE destinations DROP COLUMN place, DROP COLUMN aside;
ALTER TABLE posts DROP COLUMN aside;
DROP INDEX attempts_open;
ALTER TABLE attempts DROP COLUMN open;

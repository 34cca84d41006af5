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
-- The signed parts of links are cut out of what was kept: whoever read it could have used them.
UPDATE attempts SET sent = regexp_replace(sent, '[bpswf][.][0-9]+[.]-?[0-9]+[.][ln][.][0-9]+[.][A-Za-z0-9_-]{24}', '▒▒▒', 'g')
  WHERE sent ~ '[bpswf][.][0-9]+[.]-?[0-9]+[.][ln][.][0-9]+[.][A-Za-z0-9_-]{24}';
-- Who may answer what was asked of a place is fixed when the question is put: the mail addresses of accounts.
ALTER TABLE asked ADD COLUMN emails text[];
-- The account that took an alert, where one did.
ALTER TABLE alerts ADD COLUMN claimed_person bigint;
-- The links of a post to pictures, files and buttons, and to why it was told, can be ended.
ALTER TABLE posts ADD COLUMN links_ended timestamptz;
-- Who may change the people book besides administrators.
ALTER TABLE people ADD COLUMN keeps_book boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE people DROP COLUMN keeps_book;
ALTER TABLE posts DROP COLUMN links_ended;
ALTER TABLE alerts DROP COLUMN claimed_person;
ALTER TABLE asked DROP COLUMN emails;
ALTER TABLE arrivals DROP COLUMN through;
ALTER TABLE destinations DROP COLUMN place, DROP COLUMN aside;
ALTER TABLE posts DROP COLUMN aside;
DROP INDEX attempts_open;
ALTER TABLE attempts DROP COLUMN open;

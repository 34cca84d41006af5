-- +goose Up
-- Whether an alert was worth it: one word of each person about each post.
CREATE UNIQUE INDEX deeds_worth ON deeds (post, by) WHERE what IN ('useful', 'not for me');
-- The square learns the quiet link under a post.
ALTER TABLE practice.posts ADD COLUMN why text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE practice.posts DROP COLUMN why;
DROP INDEX deeds_worth;

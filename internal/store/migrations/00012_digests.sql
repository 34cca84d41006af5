-- +goose Up
-- What went in a digest is told by a post that is another arrival's, too: the keys of the posts that tell of an alert besides its own.
ALTER TABLE escalations ADD COLUMN with_posts text[] NOT NULL DEFAULT '{}';

-- +goose Down
ALTER TABLE escalations DROP COLUMN with_posts;

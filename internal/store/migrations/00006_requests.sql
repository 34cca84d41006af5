-- +goose Up
-- What was sent, where it is small enough: whoever sets up a hook sees how it would be read.
ALTER TABLE hook_requests ADD COLUMN IF NOT EXISTS body bytea NOT NULL DEFAULT '';
-- Whether somebody has said how often a source is asked, or it is left to the kind.
ALTER TABLE polls ADD COLUMN IF NOT EXISTS owned boolean NOT NULL DEFAULT false;
-- Why a channel would take no post, as the other side says when it is asked, and when that was.
ALTER TABLE destinations ADD COLUMN IF NOT EXISTS shut text NOT NULL DEFAULT '', ADD COLUMN IF NOT EXISTS asked_at timestamptz;
UPDATE destinations SET asked_at = now();

-- +goose Down
ALTER TABLE destinations DROP COLUMN shut, DROP COLUMN asked_at;
ALTER TABLE polls DROP COLUMN owned;
ALTER TABLE hook_requests DROP COLUMN body;

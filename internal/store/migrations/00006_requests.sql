-- +goose Up
-- What was sent, where it is small enough: whoever sets up a hook sees how it would be read.
ALTER TABLE hook_requests ADD COLUMN IF NOT EXISTS body bytea NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE hook_requests DROP COLUMN body;

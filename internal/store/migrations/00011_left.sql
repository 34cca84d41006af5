-- +goose Up
-- When somebody left a workflow as it is, though few need what it tells.
ALTER TABLE workflows ADD COLUMN left_at timestamptz;

-- +goose Down
ALTER TABLE workflows DROP COLUMN left_at;

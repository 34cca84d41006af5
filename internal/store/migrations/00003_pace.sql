-- +goose Up
-- What the pace of each workflow remembers: what was told by key, how much each destination has had, and what is held.
CREATE TABLE pace_told (
  workflow_id bigint NOT NULL REFERENCES workflows ON DELETE CASCADE,
  key         text NOT NULL,
  at          timestamptz NOT NULL,
  until       timestamptz NOT NULL,
  posts       jsonb NOT NULL,
  PRIMARY KEY (workflow_id, key)
);
CREATE INDEX ON pace_told (until);

CREATE TABLE pace_windows (
  workflow_id bigint NOT NULL REFERENCES workflows ON DELETE CASCADE,
  destination text NOT NULL,
  ends        timestamptz NOT NULL,
  posts       int NOT NULL,
  PRIMARY KEY (workflow_id, destination)
);

CREATE TABLE pace_held (
  id          bigint GENERATED ALWAYS AS IDENTITY,
  workflow_id bigint NOT NULL REFERENCES workflows ON DELETE CASCADE,
  ref         text NOT NULL,
  due_at      timestamptz NOT NULL,
  destination text NOT NULL,
  digest      boolean NOT NULL,
  body        jsonb NOT NULL,
  PRIMARY KEY (workflow_id, ref)
);
CREATE INDEX ON pace_held (due_at);

-- What became of an arrival that was held.
ALTER TABLE verdicts ADD COLUMN later text NOT NULL DEFAULT '', ADD COLUMN later_at timestamptz;

ALTER TABLE posts
  ADD COLUMN updates bigint,          -- the earlier post that this one is put in the place of
  ADD COLUMN expires_at timestamptz;  -- when it is no longer worth sending

ALTER TABLE practice.posts ADD COLUMN edited_at timestamptz;

-- +goose Down
ALTER TABLE practice.posts DROP COLUMN edited_at;
ALTER TABLE posts DROP COLUMN updates, DROP COLUMN expires_at;
ALTER TABLE verdicts DROP COLUMN later, DROP COLUMN later_at;
DROP TABLE pace_held, pace_windows, pace_told;

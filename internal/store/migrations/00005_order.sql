-- +goose Up
-- How far each source has been decided. A source is decided strictly in the order of its arrivals' numbers, and its mark
-- moves in the transaction that writes the verdicts and posts: what lies beyond the mark is still to be decided.
CREATE TABLE marks (
  source text PRIMARY KEY,
  seq    bigint NOT NULL
) WITH (fillfactor = 50);
-- A workflow that asks slow services, or is still coming to what has passed, goes at its own pace and holds up no other.
CREATE TABLE own_marks (
  workflow_id bigint PRIMARY KEY REFERENCES workflows ON DELETE CASCADE,
  source      text NOT NULL,
  seq         bigint NOT NULL,
  stays       boolean NOT NULL  -- false: joins the others of the source once it has caught up
) WITH (fillfactor = 50);
CREATE INDEX ON own_marks (source);
INSERT INTO marks (source, seq) SELECT source, max(seq) FROM arrivals GROUP BY source;
-- Up to now each batch of arrivals was a job: what these have yet to decide lies beyond the marks.
-- +goose StatementBegin
DO $$
BEGIN
  IF to_regclass('river_job') IS NOT NULL THEN
    UPDATE marks m SET seq = least(m.seq, j.seq) FROM (
      SELECT min(n::bigint) - 1 AS seq FROM river_job, jsonb_array_elements_text(args->'seqs') AS n
      WHERE kind = 'decide' AND state NOT IN ('completed', 'cancelled', 'discarded')) j WHERE j.seq IS NOT NULL;
    DELETE FROM river_job WHERE kind = 'decide';
  END IF;
END $$;
-- +goose StatementEnd

-- How far the clocks of processes are off the database's, by which all waiting goes.
CREATE TABLE processes (
  name    text PRIMARY KEY,
  skew_ms bigint NOT NULL,
  seen_at timestamptz NOT NULL
);

-- Since when a timed workflow has watched: what had passed before starts nothing.
ALTER TABLE watches ADD since timestamptz NOT NULL DEFAULT now();

-- How many seconds the practice world's time is behind the time here.
ALTER TABLE practice.world ADD shift bigint NOT NULL DEFAULT 0;

-- Roles are checked where they are written.
UPDATE people SET role = 'viewer' WHERE role NOT IN ('administrator', 'editor', 'viewer');
ALTER TABLE people ADD CONSTRAINT people_role CHECK (role IN ('administrator', 'editor', 'viewer'));
DELETE FROM invitations WHERE role NOT IN ('administrator', 'editor', 'viewer');
ALTER TABLE invitations ADD CONSTRAINT invitations_role CHECK (role IN ('administrator', 'editor', 'viewer'));
CREATE INDEX ON guesses (since);

-- +goose Down
ALTER TABLE watches DROP COLUMN since;
ALTER TABLE practice.world DROP COLUMN shift;
DROP TABLE processes;
DROP INDEX guesses_since_idx;
ALTER TABLE invitations DROP CONSTRAINT invitations_role;
ALTER TABLE people DROP CONSTRAINT people_role;
DROP TABLE own_marks, marks;

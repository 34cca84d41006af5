-- +goose Up
-- Arrivals and verdicts lie in partitions of a million arrivals each, so that old ones go by dropping a table.
-- (source, id) cannot be unique over partitions: whoever writes an arrival holds the source's lock and has looked.
ALTER TABLE arrivals RENAME TO arrivals_before;
ALTER TABLE verdicts RENAME TO verdicts_before;
CREATE SEQUENCE arrivals_numbers;
CREATE TABLE arrivals (
  seq          bigint NOT NULL DEFAULT nextval('arrivals_numbers'),
  source       text NOT NULL,
  id           text NOT NULL,
  type         text NOT NULL,
  time         timestamptz NOT NULL,
  subject      text NOT NULL,
  data         jsonb NOT NULL,
  received_at  timestamptz NOT NULL DEFAULT now(),
  for_workflow bigint
) PARTITION BY RANGE (seq);
CREATE TABLE verdicts (
  arrival     bigint NOT NULL,
  workflow_id bigint NOT NULL REFERENCES workflows ON DELETE CASCADE,
  version     int NOT NULL,
  verdict     text NOT NULL,
  route       text NOT NULL DEFAULT '',
  decided_by  text NOT NULL DEFAULT '',
  failed_at   text NOT NULL DEFAULT '',
  error       text NOT NULL DEFAULT '',
  at          timestamptz NOT NULL,
  later       text NOT NULL DEFAULT '',
  later_at    timestamptz,
  decided_at  timestamptz NOT NULL DEFAULT now(),
  gathered    jsonb          -- what was gathered for it, where the sheet gathers
) PARTITION BY RANGE (arrival);

-- Makes the partitions that hold a number. A table is made first and then attached, which stops nobody.
-- +goose StatementBegin
CREATE FUNCTION hold_arrivals(n bigint) RETURNS void LANGUAGE plpgsql AS $$
DECLARE
  width constant bigint := 1000000;
  part  bigint := n / width;
  name  text;
BEGIN
  FOREACH name IN ARRAY ARRAY['arrivals', 'verdicts'] LOOP
    IF to_regclass(format('%I', name || '_' || part)) IS NULL THEN
      EXECUTE format('CREATE TABLE %I (LIKE %I INCLUDING DEFAULTS)', name || '_' || part, name);
      -- What is not counted often is planned for as if it were empty.
      EXECUTE format('ALTER TABLE %I SET (autovacuum_analyze_scale_factor = 0.02, autovacuum_analyze_threshold = 2000)', name || '_' || part);
      EXECUTE format('ALTER TABLE %I ATTACH PARTITION %I FOR VALUES FROM (%s) TO (%s)', name, name || '_' || part, part * width, (part + 1) * width);
    END IF;
  END LOOP;
END $$;
-- +goose StatementEnd
SELECT hold_arrivals(n) FROM generate_series(0, (SELECT coalesce(max(seq), 0) FROM arrivals_before) + 3000000, 1000000) AS n;
INSERT INTO arrivals (seq, source, id, type, time, subject, data, received_at, for_workflow)
  SELECT seq, source, id, type, time, subject, data, received_at, for_workflow FROM arrivals_before;
INSERT INTO verdicts (arrival, workflow_id, version, verdict, route, decided_by, failed_at, error, at, later, later_at, decided_at)
  SELECT arrival, workflow_id, version, verdict, route, decided_by, failed_at, error, at, later, later_at, at FROM verdicts_before;
SELECT setval('arrivals_numbers', (SELECT coalesce(max(seq), 0) + 1 FROM arrivals_before), false);
DROP TABLE arrivals_before, verdicts_before;
ALTER TABLE arrivals ADD PRIMARY KEY (seq);
CREATE INDEX arrivals_by_id ON arrivals (source, id);
CREATE INDEX arrivals_by_source ON arrivals (source, seq DESC);
CREATE INDEX arrivals_by_key ON arrivals (subject, seq DESC);
CREATE INDEX arrivals_by_workflow ON arrivals (for_workflow, seq DESC) WHERE for_workflow IS NOT NULL;
ALTER TABLE verdicts ADD PRIMARY KEY (arrival, workflow_id);
CREATE INDEX verdicts_by_workflow ON verdicts (workflow_id, at DESC);
CREATE INDEX verdicts_told ON verdicts (workflow_id, at DESC) WHERE verdict = 'told';
CREATE INDEX verdicts_failed ON verdicts (arrival DESC) WHERE verdict = 'failed';

-- A destination's pace: what a person has set, and what it was seen to bear.
ALTER TABLE destinations
  ADD per_minute  int NOT NULL DEFAULT 0,      -- set by hand; 0 is as fast as it goes
  ADD spacing_ms  int NOT NULL DEFAULT 0,      -- learnt from being asked to wait; 0 is nothing learnt
  ADD spaced_at   timestamptz,
  ADD held_by     text NOT NULL DEFAULT '';    -- the person who paused it, where one did

CREATE INDEX posts_by_state ON posts (state, id DESC);
CREATE INDEX posts_sent ON posts (destination, sent_at DESC) WHERE state = 'sent';
CREATE INDEX posts_unsettled ON posts (destination, id) WHERE state IN ('refused', 'held');

-- How many arrivals each source had, and posts each destination got, within each hour: for what is usual.
CREATE TABLE hours (
  what text NOT NULL,          -- arrivals or posts
  name text NOT NULL,          -- of the source or the destination
  hour timestamptz NOT NULL,
  n    bigint NOT NULL,
  PRIMARY KEY (what, name, hour)
) WITH (fillfactor = 70);
INSERT INTO hours SELECT 'arrivals', source, date_trunc('hour', received_at), count(*) FROM arrivals GROUP BY 2, 3;
INSERT INTO hours SELECT 'posts', destination, date_trunc('hour', sent_at), count(*) FROM posts WHERE state = 'sent' AND sent_at IS NOT NULL GROUP BY 2, 3;
ALTER TABLE connections ADD secret_expires timestamptz; -- as far as is known

-- What follows on a post: steps of a run, in order, each with its own idempotency key.
CREATE TABLE steps (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  workflow_id bigint NOT NULL REFERENCES workflows ON DELETE CASCADE,
  version     int NOT NULL,
  arrival     bigint NOT NULL,
  n           int NOT NULL,
  name        text NOT NULL,
  kind        text NOT NULL,          -- add, change, append, call
  target      text NOT NULL,          -- a source, or a workflow's name
  record_key  text NOT NULL DEFAULT '',
  body        jsonb NOT NULL,
  if_fails    text NOT NULL DEFAULT 'stop',
  broken      text NOT NULL DEFAULT '', -- why its values could not be worked out
  fallback    jsonb,                  -- posts that are made if it fails for good
  key         text NOT NULL UNIQUE,
  state       text NOT NULL DEFAULT 'waiting',
  attempts    int NOT NULL DEFAULT 0,
  status      int NOT NULL DEFAULT 0,
  answer      text NOT NULL DEFAULT '',
  not_before  timestamptz,
  created_at  timestamptz NOT NULL DEFAULT now(),
  done_at     timestamptz
);
CREATE INDEX ON steps (arrival, workflow_id, n);
CREATE INDEX ON steps (id) WHERE state = 'waiting';
CREATE INDEX ON steps (state, id DESC);

-- Every try of a post or a step: what went out, and what came back.
CREATE TABLE attempts (
  id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  post    bigint REFERENCES posts ON DELETE CASCADE,
  step    bigint REFERENCES steps ON DELETE CASCADE,
  at      timestamptz NOT NULL DEFAULT now(),
  took_ms int NOT NULL DEFAULT 0,
  status  int NOT NULL DEFAULT 0,
  address text NOT NULL DEFAULT '',
  sent    text NOT NULL DEFAULT '',
  answer  text NOT NULL DEFAULT ''
);
CREATE INDEX ON attempts (post) WHERE post IS NOT NULL;
CREATE INDEX ON attempts (step) WHERE step IS NOT NULL;

-- People, their teams, and what they did.
CREATE TABLE teams (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name       text NOT NULL UNIQUE,
  created_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE team_people (
  team   bigint NOT NULL REFERENCES teams ON DELETE CASCADE,
  person bigint NOT NULL REFERENCES people ON DELETE CASCADE,
  PRIMARY KEY (team, person)
);
CREATE INDEX ON team_people (person);
ALTER TABLE workflows ADD team bigint REFERENCES teams ON DELETE SET NULL;
ALTER TABLE people ADD gone_at timestamptz;
CREATE TABLE invitations (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  token_hash  text NOT NULL UNIQUE,
  email       text NOT NULL,
  role        text NOT NULL,
  team        bigint REFERENCES teams ON DELETE CASCADE,
  invited_by  text NOT NULL,
  created_at  timestamptz NOT NULL DEFAULT now(),
  expires_at  timestamptz NOT NULL,
  accepted_at timestamptz
);
CREATE TABLE sign_ins (
  id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  person    bigint NOT NULL REFERENCES people ON DELETE CASCADE,
  at        timestamptz NOT NULL DEFAULT now(),
  seen_at   timestamptz NOT NULL DEFAULT now(),
  address   text NOT NULL DEFAULT '',
  program   text NOT NULL DEFAULT '',
  ended_at  timestamptz
);
CREATE INDEX ON sign_ins (person, id DESC);
-- How often a name or an address was tried lately without success; for every process.
CREATE TABLE guesses (
  name     text PRIMARY KEY,
  tries    int NOT NULL,
  since    timestamptz NOT NULL
);
CREATE TABLE audit (
  id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  at      timestamptz NOT NULL DEFAULT now(),
  person  bigint,
  name    text NOT NULL,
  did     text NOT NULL,   -- the operation
  what    text NOT NULL,   -- the kind of thing: workflow, connection, …
  about   text NOT NULL,   -- which
  before  jsonb,
  after   jsonb
);
CREATE INDEX ON audit (what, about, id DESC);
CREATE INDEX ON audit (person, id DESC);

-- +goose Down
ALTER TABLE connections DROP secret_expires;
DROP TABLE hours, audit, guesses, sign_ins, invitations, attempts, steps;
ALTER TABLE people DROP gone_at;
ALTER TABLE workflows DROP team;
DROP TABLE team_people, teams;
DROP INDEX posts_by_state, posts_sent, posts_unsettled;
ALTER TABLE destinations DROP per_minute, DROP spacing_ms, DROP spaced_at, DROP held_by;
CREATE TABLE arrivals_after AS SELECT * FROM arrivals;
CREATE TABLE verdicts_after AS SELECT * FROM verdicts;
ALTER TABLE verdicts_after DROP decided_at, DROP gathered;
DROP TABLE arrivals, verdicts;
DROP FUNCTION hold_arrivals;
DROP SEQUENCE arrivals_numbers;
ALTER TABLE arrivals_after RENAME TO arrivals;
ALTER TABLE arrivals ADD PRIMARY KEY (seq), ALTER seq ADD GENERATED ALWAYS AS IDENTITY, ALTER received_at SET DEFAULT now(), ADD UNIQUE (source, id);
ALTER TABLE verdicts_after RENAME TO verdicts;
ALTER TABLE verdicts ADD PRIMARY KEY (arrival, workflow_id);

-- +goose Up
-- Posts that follow their records, by the record's key.
CREATE TABLE kept (
  workflow bigint NOT NULL REFERENCES workflows ON DELETE CASCADE,
  ref      text NOT NULL,        -- of the post
  key      text NOT NULL,        -- of the record
  version  int NOT NULL,         -- of the sheet that told it
  ends_at  timestamptz NOT NULL,
  body     jsonb NOT NULL,       -- a decide.Kept
  PRIMARY KEY (workflow, ref)
);
CREATE INDEX kept_by_key ON kept (workflow, key);
CREATE INDEX kept_ends ON kept (ends_at);

-- Steps that tell others where an alert is not taken care of in time. They have no moment until one of its posts is delivered.
CREATE TABLE escalations (
  workflow  bigint NOT NULL REFERENCES workflows ON DELETE CASCADE,
  arrival   bigint NOT NULL,
  step      int NOT NULL,
  version   int NOT NULL,
  name      text NOT NULL,
  within_ms bigint NOT NULL,
  due_at    timestamptz,
  posts     jsonb,               -- of what is told again, which is no step of the sheet
  PRIMARY KEY (workflow, arrival, step)
);
CREATE INDEX escalations_due ON escalations (due_at) WHERE due_at IS NOT NULL;
CREATE INDEX escalations_waiting ON escalations (workflow, arrival) WHERE due_at IS NULL;

-- What people did with an alert: the first who took it, and the first who answered.
CREATE TABLE alerts (
  workflow   bigint NOT NULL REFERENCES workflows ON DELETE CASCADE,
  arrival    bigint NOT NULL,
  claimed_by text NOT NULL DEFAULT '',
  claimed_at timestamptz,
  replied_by text NOT NULL DEFAULT '',
  replied_at timestamptz,
  PRIMARY KEY (workflow, arrival)
);

-- Everything that people did with alerts, and that came of them by the clock.
CREATE TABLE deeds (
  id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  workflow bigint NOT NULL REFERENCES workflows ON DELETE CASCADE,
  arrival  bigint NOT NULL,
  post     bigint,
  what     text NOT NULL,        -- claimed, replied, pressed, answered, followed, withdrawn, handed over
  name     text NOT NULL DEFAULT '', -- of the button, the question or the step
  by       text NOT NULL DEFAULT '',
  words    text NOT NULL DEFAULT '',
  at       timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX deeds_by_run ON deeds (arrival, workflow, id);
CREATE UNIQUE INDEX deeds_once ON deeds (post, name) WHERE what = 'pressed';

-- Questions that wait for answers.
CREATE TABLE asks (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  workflow   bigint NOT NULL REFERENCES workflows ON DELETE CASCADE,
  arrival    bigint NOT NULL,
  version    int NOT NULL,
  name       text NOT NULL,
  state      text NOT NULL DEFAULT 'open' CHECK (state IN ('open', 'decided', 'withdrawn')),
  title      text NOT NULL DEFAULT '',
  body       jsonb NOT NULL,     -- a decide.Asking
  recall     jsonb,              -- what was gathered
  put_at     timestamptz NOT NULL,
  due_at     timestamptz,        -- when it goes, is reminded of, or ends
  ends_at    timestamptz,
  reminded   int NOT NULL DEFAULT 0,
  answer     jsonb,
  decided_at timestamptz,
  UNIQUE (workflow, arrival, name)
);
CREATE INDEX asks_due ON asks (due_at) WHERE state = 'open';
CREATE INDEX asks_open ON asks (id) WHERE state = 'open';
CREATE TABLE asked (
  ask      bigint NOT NULL REFERENCES asks ON DELETE CASCADE,
  n        int NOT NULL,
  place    text NOT NULL,
  given    boolean NOT NULL DEFAULT false,
  PRIMARY KEY (ask, n)
);
CREATE INDEX asked_open ON asked (place) WHERE NOT given;

ALTER TABLE verdicts ADD COLUMN ask text NOT NULL DEFAULT '', ADD COLUMN answers jsonb;
-- What a caller is answered who waits, for a day.
CREATE TABLE replies (
  arrival  bigint NOT NULL,
  workflow bigint NOT NULL REFERENCES workflows ON DELETE CASCADE,
  status   int NOT NULL,
  body     jsonb,
  at       timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (arrival, workflow)
);
CREATE INDEX replies_at ON replies (at);
-- Of a step that adds many records: what is set in each, how many are done, and what failed.
ALTER TABLE steps ADD COLUMN many jsonb, ADD COLUMN done_n int NOT NULL DEFAULT 0, ADD COLUMN failures jsonb;
-- The question that a post puts, or reminds of; and whether it is the last edit of a post that follows its record.
ALTER TABLE posts ADD COLUMN ask text NOT NULL DEFAULT '', ADD COLUMN done boolean NOT NULL DEFAULT false, ADD COLUMN edits boolean NOT NULL DEFAULT false, ADD COLUMN under_remote text NOT NULL DEFAULT '';

-- Pages for people without an account, each a link of a post: the chosen fields as they were when told.
CREATE TABLE shares (
  post     bigint NOT NULL REFERENCES posts ON DELETE CASCADE, -- the one that was made first
  n        int NOT NULL,       -- of the link
  workflow bigint NOT NULL REFERENCES workflows ON DELETE CASCADE,
  arrival  bigint NOT NULL,
  text     text NOT NULL,
  title    text NOT NULL,
  fields   jsonb NOT NULL,
  made_at  timestamptz NOT NULL DEFAULT now(),
  ends_at  timestamptz NOT NULL,
  ended_at timestamptz,        -- by somebody
  ended_by text NOT NULL DEFAULT '',
  opened   int NOT NULL DEFAULT 0,
  last_at  timestamptz,        -- when it was opened last
  PRIMARY KEY (post, n)
);
CREATE INDEX shares_by_workflow ON shares (workflow, made_at DESC);

-- Keys of this installation, sealed.
CREATE TABLE keys (
  name  text PRIMARY KEY,
  value bytea NOT NULL
);

-- The square learns buttons.
ALTER TABLE practice.posts ADD COLUMN buttons jsonb NOT NULL DEFAULT '[]';

-- +goose Down
ALTER TABLE practice.posts DROP COLUMN buttons;
DROP TABLE keys, shares;
ALTER TABLE posts DROP COLUMN ask, DROP COLUMN done, DROP COLUMN edits, DROP COLUMN under_remote;
ALTER TABLE verdicts DROP COLUMN ask, DROP COLUMN answers;
ALTER TABLE steps DROP COLUMN many, DROP COLUMN done_n, DROP COLUMN failures;
DROP TABLE replies, asked, asks, deeds, alerts, escalations, kept;

-- +goose Up
-- Settings are what a kind of connection asks for; the secret ones lie sealed beside them.
ALTER TABLE connections
  ADD settings      jsonb NOT NULL DEFAULT '{}',
  ADD sealed        bytea,
  ADD paused        boolean NOT NULL DEFAULT false,
  ADD last_ok       timestamptz,
  ADD failing_since timestamptz,
  ADD last_error    text NOT NULL DEFAULT '',
  ADD owner         bigint REFERENCES people ON DELETE SET NULL;

ALTER TABLE kinds
  ADD settings    jsonb NOT NULL DEFAULT '{}',
  ADD title_field text NOT NULL DEFAULT '',
  ADD link_field  text NOT NULL DEFAULT '',
  ADD corrections jsonb NOT NULL DEFAULT '{}', -- by field: label, type, hidden
  ADD learnt      jsonb,                       -- the fields as they were last learnt, to notice drift by
  ADD learnt_at   bigint NOT NULL DEFAULT 0;   -- the newest arrival then

-- A hash of the record in its canonical form, by which a poll sees whether it has changed.
ALTER TABLE records ADD hash bytea;

-- Ticks and starts are for one workflow.
ALTER TABLE arrivals ADD for_workflow bigint;
CREATE INDEX ON arrivals (for_workflow, seq DESC) WHERE for_workflow IS NOT NULL;

ALTER TABLE workflows ADD form text NOT NULL DEFAULT '', ADD call_token text NOT NULL DEFAULT '';

-- What a timed workflow has seen of its source, in order, and when it will start.
CREATE TABLE watches (
  workflow_id bigint PRIMARY KEY REFERENCES workflows ON DELETE CASCADE,
  seq         bigint NOT NULL, -- arrivals up to this one have been seen
  trigger     text NOT NULL    -- of the version whose timers these are
);
CREATE TABLE timers (
  workflow_id bigint NOT NULL REFERENCES workflows ON DELETE CASCADE,
  key         text NOT NULL, -- of the record; empty for the workflow's own
  due_at      timestamptz NOT NULL,
  spent       boolean NOT NULL DEFAULT false,
  PRIMARY KEY (workflow_id, key)
);
CREATE INDEX ON timers (due_at) WHERE NOT spent;

-- Sources that are asked from time to time.
CREATE TABLE polls (
  source      text PRIMARY KEY REFERENCES kinds ON DELETE CASCADE,
  connection  text NOT NULL,
  cursor      jsonb,
  start       text NOT NULL DEFAULT 'now', -- now, everything, or from: and a key; what the first poll makes arrivals of
  begun       boolean NOT NULL DEFAULT false,
  every       int NOT NULL,                -- seconds between polls, as it has settled
  quickest    int NOT NULL,
  slowest     int NOT NULL,
  due_at      timestamptz NOT NULL DEFAULT now(),
  lease_until timestamptz,
  failures    int NOT NULL DEFAULT 0,
  suspect     boolean NOT NULL DEFAULT false, -- the last poll found nothing where there was much
  missing     jsonb,                          -- keys that were missing the last time, and not yet believed to be gone
  last_at     timestamptz,
  last_ok     timestamptz,
  last_error  text NOT NULL DEFAULT '',
  last_rows   bigint NOT NULL DEFAULT 0,
  last_calls  int NOT NULL DEFAULT 0,
  last_ms     int NOT NULL DEFAULT 0
);
CREATE INDEX ON polls (due_at);

CREATE TABLE health (
  connection text NOT NULL REFERENCES connections ON DELETE CASCADE,
  hour       timestamptz NOT NULL,
  ok         int NOT NULL DEFAULT 0,
  failed     int NOT NULL DEFAULT 0,
  PRIMARY KEY (connection, hour)
);

-- The last requests to a hook, with what was wrong with each.
CREATE TABLE hook_requests (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  connection text NOT NULL REFERENCES connections ON DELETE CASCADE,
  at         timestamptz NOT NULL DEFAULT now(),
  status     int NOT NULL,
  problem    text NOT NULL DEFAULT '',
  location   text NOT NULL DEFAULT '',
  media      text NOT NULL DEFAULT '',
  path       text NOT NULL DEFAULT '',
  size       int NOT NULL DEFAULT 0,
  head       text NOT NULL DEFAULT '' -- the beginning of the body
);
CREATE INDEX ON hook_requests (connection, id DESC);

-- What a person has to be told about once: drift, failing connections.
CREATE TABLE notices (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  what       text NOT NULL,
  words      text NOT NULL,
  go         text NOT NULL,
  about      text NOT NULL, -- a source or a connection
  owner      bigint REFERENCES people ON DELETE CASCADE, -- null: everyone
  at         timestamptz NOT NULL DEFAULT now(),
  done_at    timestamptz
);
CREATE UNIQUE INDEX ON notices (about, what) WHERE done_at IS NULL;

-- Where the answers of a hosted form can be edited.
CREATE TABLE form_links (
  token  text PRIMARY KEY,
  source text NOT NULL REFERENCES kinds ON DELETE CASCADE,
  key    text NOT NULL
);

ALTER TABLE practice.posts ADD author text NOT NULL DEFAULT '', ADD mentions text[] NOT NULL DEFAULT '{}', ADD images jsonb NOT NULL DEFAULT '[]';
CREATE TABLE practice.reactions (
  id    bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  post  bigint NOT NULL REFERENCES practice.posts ON DELETE CASCADE,
  name  text NOT NULL,
  by    text NOT NULL,
  at    timestamptz NOT NULL DEFAULT now(),
  UNIQUE (post, name, by)
);

-- +goose Down
DROP TABLE practice.reactions, form_links, notices, hook_requests, health, polls, timers, watches;
ALTER TABLE practice.posts DROP author, DROP mentions, DROP images;
ALTER TABLE workflows DROP form, DROP call_token;
ALTER TABLE arrivals DROP for_workflow;
ALTER TABLE records DROP hash;
ALTER TABLE kinds DROP settings, DROP title_field, DROP link_field, DROP corrections, DROP learnt, DROP learnt_at;
ALTER TABLE connections DROP settings, DROP sealed, DROP paused, DROP last_ok, DROP failing_since, DROP last_error, DROP owner;

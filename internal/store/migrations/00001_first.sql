-- +goose Up
CREATE TABLE people (
  id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  email         text NOT NULL UNIQUE,
  name          text NOT NULL,
  role          text NOT NULL,
  password_hash text NOT NULL,
  created_at    timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE sessions (
  token  text PRIMARY KEY,
  data   bytea NOT NULL,
  expiry timestamptz NOT NULL
);
CREATE INDEX ON sessions (expiry);

-- A hook takes records in; a chat takes posts out.
CREATE TABLE connections (
  id         text PRIMARY KEY,
  kind       text NOT NULL,
  title      text NOT NULL,
  address    text NOT NULL DEFAULT '',
  secret     text NOT NULL DEFAULT '',
  key_field  text NOT NULL DEFAULT 'id',
  created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE kinds (
  source     text PRIMARY KEY,
  connection text NOT NULL REFERENCES connections ON DELETE CASCADE,
  title      text NOT NULL,
  key_field  text NOT NULL DEFAULT 'id',
  schema     jsonb
);

-- Where posts go. A pause holds everything back until a person has mended what is wrong.
CREATE TABLE destinations (
  name        text PRIMARY KEY,
  connection  text NOT NULL REFERENCES connections ON DELETE CASCADE,
  title       text NOT NULL,
  private     boolean NOT NULL DEFAULT false,
  paused      boolean NOT NULL DEFAULT false,
  reason      text NOT NULL DEFAULT '',
  not_before  timestamptz,
  failures    int NOT NULL DEFAULT 0
);

CREATE TABLE workflows (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name        text NOT NULL UNIQUE,
  draft       text NOT NULL,
  version     int NOT NULL DEFAULT 0,   -- the version that is or was on; 0 before the first
  is_on       boolean NOT NULL DEFAULT false,
  source      text NOT NULL DEFAULT '', -- of the version
  since       bigint NOT NULL DEFAULT 0, -- arrivals up to this one are not decided
  owner       bigint REFERENCES people,
  created_at  timestamptz NOT NULL DEFAULT now(),
  updated_at  timestamptz NOT NULL DEFAULT now(),
  updated_by  text NOT NULL DEFAULT ''
);
CREATE INDEX ON workflows (source) WHERE is_on;

CREATE TABLE workflow_versions (
  workflow_id bigint NOT NULL REFERENCES workflows ON DELETE CASCADE,
  version     int NOT NULL,
  sheet       text NOT NULL,
  note        text NOT NULL DEFAULT '',
  by_person   text NOT NULL DEFAULT '',
  at          timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (workflow_id, version)
);

CREATE TABLE arrivals (
  seq         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  source      text NOT NULL,
  id          text NOT NULL,
  type        text NOT NULL,
  time        timestamptz NOT NULL,
  subject     text NOT NULL,
  data        jsonb NOT NULL,
  received_at timestamptz NOT NULL DEFAULT now(),
  UNIQUE (source, id)
);
CREATE INDEX ON arrivals (source, seq DESC);
CREATE INDEX ON arrivals (subject, seq DESC);

-- The latest record of every key, so that what was before is known.
CREATE TABLE records (
  source  text NOT NULL,
  key     text NOT NULL,
  data    jsonb NOT NULL,
  time    timestamptz NOT NULL,
  PRIMARY KEY (source, key)
);

-- What a workflow made of an arrival. What it ignored leaves no row.
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
  PRIMARY KEY (arrival, workflow_id)
);
CREATE INDEX ON verdicts (workflow_id, at DESC);
CREATE INDEX ON verdicts (workflow_id, at DESC) WHERE verdict = 'told';

CREATE TABLE posts (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  workflow_id bigint NOT NULL REFERENCES workflows ON DELETE CASCADE,
  arrival     bigint NOT NULL,
  destination text NOT NULL,
  message     text NOT NULL,
  body        jsonb NOT NULL,
  title       text NOT NULL DEFAULT '',
  under       bigint,                    -- the post whose thread this belongs in
  key         text NOT NULL UNIQUE,      -- the idempotency key
  state       text NOT NULL DEFAULT 'waiting',
  attempts    int NOT NULL DEFAULT 0,
  answer      text NOT NULL DEFAULT '',
  status      int NOT NULL DEFAULT 0,
  remote_id   text NOT NULL DEFAULT '',
  created_at  timestamptz NOT NULL DEFAULT now(),
  sent_at     timestamptz
);
CREATE INDEX ON posts (destination, id) WHERE state = 'waiting';
CREATE INDEX ON posts (arrival);
CREATE INDEX ON posts (workflow_id, id DESC);

CREATE SCHEMA practice;
CREATE TABLE practice.records (
  app        text NOT NULL,
  kind       text NOT NULL,
  key        text NOT NULL,
  data       jsonb NOT NULL,
  updated_at timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (app, kind, key)
);
CREATE INDEX ON practice.records (app, kind, updated_at DESC);
CREATE TABLE practice.hooks (
  id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  app     text NOT NULL,
  address text NOT NULL,
  secret  text NOT NULL,
  UNIQUE (app, address)
);
-- Events that the practice apps have yet to deliver.
CREATE TABLE practice.events (
  id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  hook     bigint NOT NULL REFERENCES practice.hooks ON DELETE CASCADE,
  event    text NOT NULL,
  body     text NOT NULL,
  attempts int NOT NULL DEFAULT 0,
  due_at   timestamptz NOT NULL DEFAULT now(),
  answer   text NOT NULL DEFAULT ''
);
CREATE TABLE practice.channels (
  name       text PRIMARY KEY,
  purpose    text NOT NULL DEFAULT '',
  private    boolean NOT NULL DEFAULT false,
  members    text[] NOT NULL DEFAULT '{}',
  hook_token text NOT NULL DEFAULT '',
  withdrawn  boolean NOT NULL DEFAULT false
);
CREATE TABLE practice.tokens (token text PRIMARY KEY, sender text NOT NULL);
CREATE TABLE practice.posts (
  id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  channel text NOT NULL REFERENCES practice.channels,
  sender  text NOT NULL,
  title   text NOT NULL DEFAULT '',
  text    text NOT NULL DEFAULT '',
  facts   jsonb NOT NULL DEFAULT '[]',
  tone    text NOT NULL DEFAULT 'plain',
  link    jsonb,
  under   bigint REFERENCES practice.posts ON DELETE CASCADE,
  key     text,
  at      timestamptz NOT NULL DEFAULT now(),
  UNIQUE (sender, key)
);
CREATE INDEX ON practice.posts (channel, id DESC);
-- From which day on, and by which seed, the world of the practice apps has been lived through.
CREATE TABLE practice.world (
  one      boolean PRIMARY KEY DEFAULT true CHECK (one),
  seed     bigint NOT NULL,
  first    date NOT NULL,
  lived_to timestamptz NOT NULL
);

-- +goose Down
DROP SCHEMA practice CASCADE;
DROP TABLE posts, verdicts, records, arrivals, workflow_versions, workflows, destinations, kinds, connections, sessions, people;

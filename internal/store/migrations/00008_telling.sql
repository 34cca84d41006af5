-- +goose Up
-- What could not be told of an arrival where the rest was, and how many of a list were not.
ALTER TABLE verdicts ADD COLUMN failures jsonb, ADD COLUMN more int NOT NULL DEFAULT 0;
CREATE INDEX verdicts_partly ON verdicts (arrival DESC) WHERE failures IS NOT NULL;

-- Further addresses of a mail; the link that the other side gave; and what became of a post after it was taken, where the
-- other side tells so later: a bounce, a report of delivery.
ALTER TABLE posts ADD COLUMN cc text NOT NULL DEFAULT '', ADD COLUMN bcc text NOT NULL DEFAULT '', ADD COLUMN link text NOT NULL DEFAULT '',
  ADD COLUMN report text NOT NULL DEFAULT '', ADD COLUMN report_words text NOT NULL DEFAULT '', ADD COLUMN report_at timestamptz;
ALTER TABLE posts ADD CONSTRAINT posts_report CHECK (report IN ('', 'sent', 'delivered', 'failed')) NOT VALID;
CREATE INDEX posts_remote ON posts (remote_id) WHERE remote_id <> '';

-- The people book: persons, with an address on each connection. The key is the id as text is compared.
CREATE TABLE persons (
  key        text PRIMARY KEY,
  id         text NOT NULL,
  name       text NOT NULL DEFAULT '',
  prefers    text NOT NULL DEFAULT '',
  addresses  jsonb NOT NULL DEFAULT '{}',
  changed_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX persons_by_name ON persons (lower(name), key);

-- What the workspace has chosen, such as the source that is its people book.
CREATE TABLE choices (
  name  text PRIMARY KEY,
  value jsonb NOT NULL
);

-- The stand-ins learn: posts with another sender, a picture and more links; a mailbox; a phone.
ALTER TABLE practice.posts ADD COLUMN called text NOT NULL DEFAULT '', ADD COLUMN face bigint, ADD COLUMN picture jsonb, ADD COLUMN links jsonb NOT NULL DEFAULT '[]';
CREATE TABLE practice.pictures (
  id     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  media  text NOT NULL,
  data   bytea NOT NULL,
  at     timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE practice.letters (
  id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  message  text NOT NULL UNIQUE,       -- its Message-ID, by which a repeated one is known
  sender   text NOT NULL,
  called   text NOT NULL DEFAULT '',   -- the sender's name
  to_list  text[] NOT NULL,            -- everybody whom it reached
  subject  text NOT NULL DEFAULT '',
  text     text NOT NULL DEFAULT '',
  files    jsonb NOT NULL DEFAULT '[]',
  under    text NOT NULL DEFAULT '',   -- the Message-ID that it answers
  raw      text NOT NULL,
  at       timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE practice.texts (
  id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  key      text UNIQUE,
  sender   text NOT NULL DEFAULT '',
  number   text NOT NULL,
  text     text NOT NULL,
  parts    int NOT NULL,
  state    text NOT NULL DEFAULT 'sent',  -- sent, delivered or failed
  words    text NOT NULL DEFAULT '',
  reports  text NOT NULL DEFAULT '',      -- where reports go to
  due_at   timestamptz,                   -- when the next is to be sent
  at       timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE practice.texts, practice.letters, practice.pictures;
ALTER TABLE practice.posts DROP COLUMN called, DROP COLUMN face, DROP COLUMN picture, DROP COLUMN links;
DROP TABLE choices, persons;
DROP INDEX posts_remote;
ALTER TABLE posts DROP CONSTRAINT posts_report;
ALTER TABLE posts DROP COLUMN cc, DROP COLUMN bcc, DROP COLUMN link, DROP COLUMN report, DROP COLUMN report_words, DROP COLUMN report_at;
DROP INDEX verdicts_partly;
ALTER TABLE verdicts DROP COLUMN failures, DROP COLUMN more;

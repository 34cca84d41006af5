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

-- +goose Down
DROP TABLE choices, persons;
DROP INDEX posts_remote;
ALTER TABLE posts DROP CONSTRAINT posts_report;
ALTER TABLE posts DROP COLUMN cc, DROP COLUMN bcc, DROP COLUMN link, DROP COLUMN report, DROP COLUMN report_words, DROP COLUMN report_at;
DROP INDEX verdicts_partly;
ALTER TABLE verdicts DROP COLUMN failures, DROP COLUMN more;

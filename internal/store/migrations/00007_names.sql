-- +goose Up
-- A source is called a source, and a reference is named after what it refers to.
ALTER TABLE kinds RENAME TO sources;
ALTER TABLE sources RENAME COLUMN source TO name;
ALTER TABLE workflow_versions RENAME COLUMN workflow_id TO workflow;
ALTER TABLE verdicts RENAME COLUMN workflow_id TO workflow;
ALTER TABLE posts RENAME COLUMN workflow_id TO workflow;
ALTER TABLE steps RENAME COLUMN workflow_id TO workflow;
ALTER TABLE watches RENAME COLUMN workflow_id TO workflow;
ALTER TABLE timers RENAME COLUMN workflow_id TO workflow;
ALTER TABLE own_marks RENAME COLUMN workflow_id TO workflow;
ALTER TABLE pace_told RENAME COLUMN workflow_id TO workflow;
ALTER TABLE pace_windows RENAME COLUMN workflow_id TO workflow;
ALTER TABLE pace_held RENAME COLUMN workflow_id TO workflow;

-- Secrets have been sealed since the second version, by the process that has the key.
-- +goose StatementBegin
DO $$ BEGIN
  IF EXISTS (SELECT 1 FROM connections WHERE secret <> '' OR address <> '') THEN
    RAISE EXCEPTION 'secrets of connections lie open in this database; start the version before this one once, which seals them, and then migrate';
  END IF;
END $$;
-- +goose StatementEnd
ALTER TABLE connections DROP COLUMN secret, DROP COLUMN address;

-- What starts the draft, as far as it can be read; that of the version that is or was on is the form.
ALTER TABLE workflows ADD COLUMN draft_form text NOT NULL DEFAULT '';
UPDATE workflows SET draft_form = 'called' WHERE draft LIKE '%called:%';

-- Which step started an arrival, and which workflow a step calls.
ALTER TABLE arrivals ADD COLUMN by_step bigint;
UPDATE arrivals SET by_step = split_part(id, '-', 3)::bigint WHERE for_workflow IS NOT NULL AND id ~ '^w[0-9]+-step-[0-9]{1,18}-';
ALTER TABLE steps ADD COLUMN calls bigint REFERENCES workflows ON DELETE SET NULL;
UPDATE steps s SET calls = w.id FROM workflows w WHERE s.kind = 'call' AND w.name = s.target;

-- Posts that were sent to try a sheet.
ALTER TABLE posts ADD COLUMN trial boolean NOT NULL DEFAULT false;
UPDATE posts SET trial = true WHERE key LIKE '%-trial-%';

ALTER TABLE workflows ADD CONSTRAINT workflows_form CHECK (form IN ('', 'due', 'lasts', 'silent', 'schedule', 'start', 'called'));
-- What is there already was written by the same program; looking it all through would take long.
ALTER TABLE posts ADD CONSTRAINT posts_state CHECK (state IN ('waiting', 'sent', 'refused', 'given up', 'dropped', 'expired', 'held')) NOT VALID;
ALTER TABLE steps ADD CONSTRAINT steps_state CHECK (state IN ('waiting', 'done', 'failed', 'skipped')) NOT VALID;
ALTER TABLE steps ADD CONSTRAINT steps_kind CHECK (kind IN ('add', 'change', 'call')) NOT VALID;

-- The newest records of a source; a record's arrivals; what is deleted with a workflow.
CREATE INDEX records_newest ON records (source, time DESC);
CREATE INDEX arrivals_of_record ON arrivals (subject, source, seq DESC);
DROP INDEX arrivals_by_key;
CREATE INDEX steps_by_workflow ON steps (workflow);

-- +goose Down
DROP INDEX steps_by_workflow;
CREATE INDEX arrivals_by_key ON arrivals (subject, seq DESC);
DROP INDEX arrivals_of_record, records_newest;
ALTER TABLE steps DROP CONSTRAINT steps_kind, DROP CONSTRAINT steps_state;
ALTER TABLE posts DROP CONSTRAINT posts_state;
ALTER TABLE workflows DROP CONSTRAINT workflows_form;
ALTER TABLE posts DROP COLUMN trial;
ALTER TABLE steps DROP COLUMN calls;
ALTER TABLE arrivals DROP COLUMN by_step;
ALTER TABLE workflows DROP COLUMN draft_form;
ALTER TABLE connections ADD COLUMN secret text NOT NULL DEFAULT '', ADD COLUMN address text NOT NULL DEFAULT '';
ALTER TABLE pace_held RENAME COLUMN workflow TO workflow_id;
ALTER TABLE pace_windows RENAME COLUMN workflow TO workflow_id;
ALTER TABLE pace_told RENAME COLUMN workflow TO workflow_id;
ALTER TABLE own_marks RENAME COLUMN workflow TO workflow_id;
ALTER TABLE timers RENAME COLUMN workflow TO workflow_id;
ALTER TABLE watches RENAME COLUMN workflow TO workflow_id;
ALTER TABLE steps RENAME COLUMN workflow TO workflow_id;
ALTER TABLE posts RENAME COLUMN workflow TO workflow_id;
ALTER TABLE verdicts RENAME COLUMN workflow TO workflow_id;
ALTER TABLE workflow_versions RENAME COLUMN workflow TO workflow_id;
ALTER TABLE sources RENAME COLUMN name TO source;
ALTER TABLE sources RENAME TO kinds;

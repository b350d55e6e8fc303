-- +goose Up

-- Jobs of a kind with the same key are done one after another, in the order of their subjects: the queue looks at the first
-- of each key, and at each kind for itself, so that many of one do not keep others waiting.
ALTER TABLE jobs ADD COLUMN key TEXT NOT NULL DEFAULT '';
UPDATE jobs SET key = (SELECT direction || ' ' || partner FROM interchanges i WHERE i.id = subject)
  WHERE kind = 'interchange' AND subject IN (SELECT id FROM interchanges);
UPDATE jobs SET key = (SELECT system FROM pulls WHERE id = subject) WHERE kind = 'pull' AND subject IN (SELECT id FROM pulls);
UPDATE jobs SET key = (SELECT sync FROM checks WHERE id = subject) WHERE kind = 'check' AND subject IN (SELECT id FROM checks);
CREATE INDEX jobs_by_key ON jobs (kind, key, subject, state);
CREATE INDEX jobs_by_kind ON jobs (kind, key, state, due_at);
DROP INDEX jobs_by_time;

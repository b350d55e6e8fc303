-- +goose Up

-- What is kept for a time only: since when the bytes of a document, and the rows of a load, are not there any more.
ALTER TABLE documents ADD COLUMN taken_away_at TEXT;
ALTER TABLE loads ADD COLUMN taken_away_at TEXT;
CREATE INDEX documents_by_age ON documents (received_at, sha) WHERE taken_away_at IS NULL;
CREATE INDEX documents_taken_away ON documents (taken_away_at) WHERE taken_away_at IS NOT NULL;
-- Most events have no order before them to keep, so most are not in this index.
CREATE INDEX events_by_age ON events (at) WHERE length(was) > 4;

-- +goose Up
ALTER TABLE loads ADD COLUMN options TEXT NOT NULL DEFAULT '{}';    -- what was asked, as JSON
UPDATE loads SET options = CASE WHEN dry_run AND all_or_none THEN '{"dry_run":true,"all_or_none":true}' WHEN dry_run THEN '{"dry_run":true}'
  WHEN all_or_none THEN '{"all_or_none":true}' ELSE '{}' END;
ALTER TABLE loads ADD COLUMN reason TEXT NOT NULL DEFAULT '';       -- why it is paused or stopped
ALTER TABLE loads ADD COLUMN share REAL NOT NULL DEFAULT 0;         -- of the document that has been read
ALTER TABLE loads ADD COLUMN changed INTEGER NOT NULL DEFAULT 0;
ALTER TABLE loads ADD COLUMN differs INTEGER NOT NULL DEFAULT 0;
ALTER TABLE loads ADD COLUMN held INTEGER NOT NULL DEFAULT 0;
ALTER TABLE loads ADD COLUMN undone INTEGER NOT NULL DEFAULT 0;
ALTER TABLE loads ADD COLUMN saved INTEGER NOT NULL DEFAULT 0;      -- seconds of work by hand
ALTER TABLE loads ADD COLUMN request TEXT;                          -- the request that asked for it, where it named itself
ALTER TABLE loads ADD COLUMN run INTEGER;                           -- of a sequence
ALTER TABLE loads ADD COLUMN step TEXT NOT NULL DEFAULT '';
CREATE UNIQUE INDEX loads_by_request ON loads (request) WHERE request IS NOT NULL;
CREATE INDEX loads_by_run ON loads (run) WHERE run IS NOT NULL;
UPDATE loads SET status = 'cancelled' WHERE status = 'interrupted';

-- What a load changed, or would, in orders that were stored before.
CREATE TABLE load_changes (
  load_id INTEGER NOT NULL REFERENCES loads (id) ON DELETE CASCADE,
  seq     INTEGER NOT NULL,
  changes TEXT NOT NULL,                  -- what was and what is, as JSON
  PRIMARY KEY (load_id, seq)
) WITHOUT ROWID;

-- Orders can come without a load: a program sends them one by one.
CREATE TABLE orders_new (
  id                    INTEGER PRIMARY KEY,
  kind                  TEXT NOT NULL,
  number                TEXT NOT NULL,
  identity              TEXT NOT NULL UNIQUE,
  fingerprint           BLOB NOT NULL,    -- of what arrived last
  status                TEXT NOT NULL,
  revision              INTEGER NOT NULL,
  sender_number         TEXT,
  partner               TEXT NOT NULL,
  ordered_on            TEXT,
  requested_ship_on     TEXT,
  requested_delivery_on TEXT,
  currency              TEXT,
  total                 TEXT NOT NULL,
  line_count            INTEGER NOT NULL,
  more                  TEXT,             -- the header's rarer fields, as JSON
  trace                 TEXT NOT NULL,    -- where each value came from, as JSON
  load_id               INTEGER REFERENCES loads (id),
  load_seq              INTEGER NOT NULL, -- which order of the load's document
  UNIQUE (kind, number)
);
INSERT INTO orders_new SELECT * FROM orders;
DROP TABLE orders;
ALTER TABLE orders_new RENAME TO orders;

ALTER TABLE events ADD COLUMN load_seq INTEGER NOT NULL DEFAULT 0;
ALTER TABLE events ADD COLUMN was TEXT;   -- the whole order before a change, as JSON: what undoing puts back

-- Requests that named themselves with an Idempotency-Key, with their answers.
CREATE TABLE requests (
  caller  TEXT NOT NULL,
  key     TEXT NOT NULL,
  what    TEXT NOT NULL,                  -- method and path
  body    BLOB,                           -- SHA-256 of the body
  status  INTEGER,                        -- NULL: not answered yet
  headers TEXT,
  answer  BLOB,
  at      TEXT NOT NULL,
  PRIMARY KEY (caller, key)
) WITHOUT ROWID;
CREATE INDEX requests_by_time ON requests (at);

CREATE TABLE sequences (
  name      TEXT NOT NULL,
  version   INTEGER NOT NULL,
  text      TEXT NOT NULL,
  stored_at TEXT NOT NULL,
  stored_by TEXT NOT NULL,
  PRIMARY KEY (name, version)
) WITHOUT ROWID;

CREATE TABLE runs (
  id         INTEGER PRIMARY KEY,
  sequence   TEXT NOT NULL,
  version    INTEGER NOT NULL,
  document   TEXT NOT NULL REFERENCES documents (sha),
  options    TEXT NOT NULL DEFAULT '{}',
  status     TEXT NOT NULL,
  again_of   INTEGER NOT NULL DEFAULT 0,  -- the run that this one goes on from
  started_at TEXT NOT NULL,
  ended_at   TEXT,
  by         TEXT NOT NULL,
  request    TEXT UNIQUE,
  FOREIGN KEY (sequence, version) REFERENCES sequences (name, version)
);

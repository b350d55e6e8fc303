-- +goose Up
-- Standing instructions that keep orders equal between systems: a version for each text.
CREATE TABLE syncs (
  name      TEXT NOT NULL,
  version   INTEGER NOT NULL,
  text      TEXT NOT NULL,
  stored_at TEXT NOT NULL,
  stored_by TEXT NOT NULL,
  PRIMARY KEY (name, version)
) WITHOUT ROWID;
CREATE TABLE sync_states (
  name     TEXT PRIMARY KEY,
  state    TEXT NOT NULL,                 -- active, paused
  reason   TEXT NOT NULL,
  since    TEXT NOT NULL,
  position INTEGER NOT NULL,              -- number of the last event that was looked at
  filled   INTEGER                        -- id of the last order that was looked at for the first time; NULL: all were
) WITHOUT ROWID;

-- Runs that somebody asked for.
CREATE TABLE sync_runs (
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  sync       TEXT NOT NULL,
  only       TEXT NOT NULL,               -- JSON list of the pulls and pushes; [] is all
  state      TEXT NOT NULL,               -- running, done, stopped
  reason     TEXT NOT NULL,
  pulls      TEXT NOT NULL,               -- JSON: what its pulls came to
  pushed     INTEGER NOT NULL,            -- id of the last row of pushed when it began
  started_at TEXT NOT NULL,
  ended_at   TEXT,
  by         TEXT NOT NULL
);
CREATE INDEX sync_runs_by_sync ON sync_runs (sync, id);
CREATE INDEX sync_runs_open ON sync_runs (sync) WHERE state = 'running';

-- Orders that are to be looked at for a record of a system. One that is done is gone.
CREATE TABLE tasks (
  id       INTEGER PRIMARY KEY AUTOINCREMENT,
  sync     TEXT NOT NULL,
  push     TEXT NOT NULL,                 -- its name in the sync
  system   TEXT NOT NULL,
  record   TEXT NOT NULL,
  order_id INTEGER NOT NULL,              -- of an order that may be gone
  part     INTEGER NOT NULL,              -- its movement or invoice, or the revision of its answer; 0 is the order
  state    TEXT NOT NULL,                 -- waiting, after (for another record of the order), held, aside
  turn     INTEGER NOT NULL,              -- one more with each reason to look: what comes while it is worked at is not lost
  attempts INTEGER NOT NULL,              -- that failed since
  made_at  TEXT NOT NULL,
  due_at   TEXT NOT NULL,
  why      TEXT NOT NULL,                 -- what came of the last attempt
  UNIQUE (sync, push, order_id, part)
);
CREATE INDEX tasks_due ON tasks (system, due_at) WHERE state = 'waiting';
CREATE INDEX tasks_by_order ON tasks (order_id);

-- What was written into systems, and what was looked at and was right.
CREATE TABLE pushed (
  id       INTEGER PRIMARY KEY AUTOINCREMENT,
  sync     TEXT NOT NULL,                 -- '' is that somebody asked for it
  push     TEXT NOT NULL,
  system   TEXT NOT NULL,
  record   TEXT NOT NULL,
  order_id INTEGER NOT NULL,
  part     INTEGER NOT NULL,
  number   TEXT NOT NULL,                 -- of the order
  key      TEXT NOT NULL,
  outcome  TEXT NOT NULL,                 -- created, changed, right, held, passed over
  steps    TEXT NOT NULL,                 -- JSON: the calls that were made, with what was there before
  why      TEXT NOT NULL,
  at       TEXT NOT NULL,
  by       TEXT NOT NULL
);
CREATE INDEX pushed_by_sync ON pushed (sync, id);
CREATE INDEX pushed_by_order ON pushed (order_id, id);
CREATE INDEX pushed_by_time ON pushed (at);

CREATE INDEX files_by_document ON files (document);
CREATE INDEX pulls_open ON pulls (system, record) WHERE state IN ('running', 'away');

CREATE TABLE links_new (
  system   TEXT NOT NULL,
  record   TEXT NOT NULL,
  order_id INTEGER NOT NULL,         -- of an order that may be gone; ids are never used again
  part     INTEGER NOT NULL,         -- its movement or invoice, or the revision of its answer; 0 is the order
  key      TEXT NOT NULL,
  number   TEXT NOT NULL,            -- what people call it there
  revision INTEGER NOT NULL,         -- of the order, when they last agreed; 0 is not yet
  agreed   TEXT NOT NULL,            -- what the record should have said then, JSON
  at       TEXT NOT NULL,            -- when it was written
  found    TEXT NOT NULL,            -- the record as it was last read, JSON
  base     TEXT NOT NULL,            -- the record when both agreed, where both sides may change it
  decided  TEXT NOT NULL,            -- what a person decided where both changed it, JSON
  PRIMARY KEY (system, record, order_id, part)
) WITHOUT ROWID;
INSERT INTO links_new SELECT system, record, order_id, 0, key, number, revision, agreed, at, '', '', '' FROM links;
DROP TABLE links;
ALTER TABLE links_new RENAME TO links;
CREATE UNIQUE INDEX links_by_key ON links (system, record, key);
CREATE INDEX links_by_order ON links (order_id);
ALTER TABLE pulls ADD COLUMN also TEXT NOT NULL DEFAULT '[]'; -- further mappings of the same records, JSON
ALTER TABLE pulls ADD COLUMN everything INTEGER NOT NULL DEFAULT 0; -- also what is not new
ALTER TABLE pulls ADD COLUMN key TEXT NOT NULL DEFAULT ''; -- of the one record that is read; '' is a list
ALTER TABLE held ADD COLUMN task INTEGER REFERENCES tasks (id); -- push
ALTER TABLE held ADD COLUMN sync TEXT NOT NULL DEFAULT '';
ALTER TABLE held ADD COLUMN system TEXT NOT NULL DEFAULT '';
ALTER TABLE held ADD COLUMN aside TEXT NOT NULL DEFAULT ''; -- why somebody put it aside; '' is that it waits
DROP INDEX held_by_set;
CREATE UNIQUE INDEX held_by_set ON held (interchange, set_seq) WHERE kind IN ('set', 'notice');
CREATE UNIQUE INDEX held_by_task ON held (task) WHERE kind = 'push';

-- Comparisons of a sync: dry runs, reconciles, first links; and what each found.
CREATE TABLE checks (
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  sync       TEXT NOT NULL,
  kind       TEXT NOT NULL,               -- dry run, reconcile, link
  asked      TEXT NOT NULL,               -- JSON
  state      TEXT NOT NULL,               -- running, done, failed
  reason     TEXT NOT NULL,
  counts     TEXT NOT NULL,               -- JSON
  started_at TEXT NOT NULL,
  ended_at   TEXT,
  by         TEXT NOT NULL
);
CREATE INDEX checks_by_sync ON checks (sync, id);
CREATE TABLE check_rows (
  check_id INTEGER NOT NULL REFERENCES checks (id) ON DELETE CASCADE,
  n        INTEGER NOT NULL,
  outcome  TEXT NOT NULL,
  part     TEXT NOT NULL,                 -- pull or push of the sync
  order_id INTEGER NOT NULL,
  content  TEXT NOT NULL,                 -- JSON
  PRIMARY KEY (check_id, n)
) WITHOUT ROWID;

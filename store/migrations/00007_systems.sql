-- +goose Up
-- Other applications, as their descriptions have them: a version for each text.
CREATE TABLE systems (
  name      TEXT NOT NULL,
  version   INTEGER NOT NULL,
  text      TEXT NOT NULL,
  stored_at TEXT NOT NULL,
  stored_by TEXT NOT NULL,
  PRIMARY KEY (name, version)
) WITHOUT ROWID;

-- Runs of reading one kind of record out of a system.
CREATE TABLE pulls (
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  system     TEXT NOT NULL,
  version    INTEGER NOT NULL,          -- of the description
  record     TEXT NOT NULL,
  mapping    TEXT NOT NULL,
  since      TEXT NOT NULL,             -- stamp that it began from, as the system writes it; '' is everything
  newest     TEXT NOT NULL DEFAULT '',  -- newest stamp that is in the books
  next       TEXT NOT NULL DEFAULT '',  -- address of the page that it goes on with
  state      TEXT NOT NULL,             -- running, away, done, failed
  reason     TEXT NOT NULL DEFAULT '',
  pages      INTEGER NOT NULL DEFAULT 0,
  records    INTEGER NOT NULL DEFAULT 0, -- that were listed
  unchanged  INTEGER NOT NULL DEFAULT 0, -- of those: known already, as they are
  gone       INTEGER NOT NULL DEFAULT 0, -- of those: withdrawn there, left out here
  short      INTEGER NOT NULL DEFAULT 0, -- of those: not complete, left out here
  loaded     INTEGER NOT NULL DEFAULT 0, -- orders
  changed    INTEGER NOT NULL DEFAULT 0,
  failed     INTEGER NOT NULL DEFAULT 0, -- refused or held
  started_at TEXT NOT NULL,
  ended_at   TEXT,
  by         TEXT NOT NULL
);
CREATE INDEX pulls_by_record ON pulls (system, record, id);

-- Things got from systems, byte for byte (gzip). The newest of a key says what is known.
CREATE TABLE arrivals (
  id       INTEGER PRIMARY KEY AUTOINCREMENT,
  system   TEXT NOT NULL,
  record   TEXT NOT NULL,
  key      TEXT NOT NULL,
  number   TEXT NOT NULL,
  version  TEXT NOT NULL,
  stamp    TEXT NOT NULL,
  state    TEXT NOT NULL,  -- mapped, gone, short, told, passed
  digest   BLOB NOT NULL,  -- SHA-256 of the bytes
  body     BLOB,           -- absent once its time to live is over
  at       TEXT NOT NULL,
  pull_id  INTEGER NOT NULL REFERENCES pulls (id),
  request  TEXT NOT NULL,  -- address that was asked
  place    TEXT NOT NULL,  -- JSON Pointer within the answer
  document TEXT REFERENCES documents (sha), -- in which it was mapped, and its line there
  line     INTEGER NOT NULL DEFAULT 0,
  load_id  INTEGER REFERENCES loads (id)
);
CREATE INDEX arrivals_by_key ON arrivals (system, record, key, id);
CREATE INDEX arrivals_by_document ON arrivals (document, line) WHERE document IS NOT NULL;
CREATE INDEX arrivals_by_pull ON arrivals (pull_id, id);
CREATE INDEX arrivals_by_time ON arrivals (at) WHERE body IS NOT NULL;

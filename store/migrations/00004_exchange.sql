-- +goose Up

-- Partners with whom interchanges of X12 go to and fro.
CREATE TABLE partners (
  name           TEXT PRIMARY KEY,
  text           TEXT NOT NULL,           -- YAML
  them           TEXT NOT NULL,           -- qualifier:id, as ISA05 and ISA06 have them
  us             TEXT NOT NULL,
  stored_at      TEXT NOT NULL,
  stored_by      TEXT NOT NULL,
  UNIQUE (them, us)
) WITHOUT ROWID;

-- The control number used last, by partner and what is numbered. A row goes up
-- in the same commit that keeps what bears the number.
CREATE TABLE control_numbers (
  partner TEXT NOT NULL,
  what    TEXT NOT NULL,                  -- interchange, group, shipment, invoice
  last    INTEGER NOT NULL,
  PRIMARY KEY (partner, what)
) WITHOUT ROWID;

CREATE TABLE interchanges (
  id          INTEGER PRIMARY KEY AUTOINCREMENT, -- one that was held and written anew leaves a gap
  partner     TEXT NOT NULL,              -- '' is nobody that is known
  direction   TEXT NOT NULL,              -- in, out
  control     INTEGER NOT NULL,           -- ISA13; 0 is held before it got one
  group_control INTEGER NOT NULL DEFAULT 0, -- out: GS06
  document    TEXT REFERENCES documents (sha),
  kinds       TEXT NOT NULL,              -- transaction sets, e.g. 850 or 850 860
  state       TEXT NOT NULL,
  name        TEXT NOT NULL,              -- of the file it came or goes in
  answers     INTEGER REFERENCES interchanges (id), -- out: the interchange that it acknowledges
  at          TEXT NOT NULL,
  sent_at     TEXT,
  due_at      TEXT,                       -- out: when it should be acknowledged
  acknowledged_at TEXT,
  by          TEXT NOT NULL,
  findings    TEXT NOT NULL DEFAULT '[]'
);
CREATE INDEX interchanges_by_partner ON interchanges (partner, direction, control);
CREATE INDEX interchanges_by_document ON interchanges (document);
CREATE INDEX interchanges_by_state ON interchanges (state, direction);

CREATE TABLE sets (
  interchange   INTEGER NOT NULL REFERENCES interchanges (id),
  seq           INTEGER NOT NULL,         -- of the interchange, counted from 1
  kind          TEXT NOT NULL,            -- 850
  group_control TEXT NOT NULL,
  control       TEXT NOT NULL,
  row           INTEGER NOT NULL,         -- segment of the document with its ST
  rows          INTEGER NOT NULL,         -- how many segments it has
  state         TEXT NOT NULL,            -- in: received, done, held, rejected; out: ready, accepted, noted, rejected, held
  number        TEXT NOT NULL DEFAULT '', -- of the order, as the set has it
  order_id      INTEGER,
  order_revision INTEGER NOT NULL DEFAULT 0,
  load_id       INTEGER,
  said          TEXT,                     -- the order as the set says it, as JSON
  findings      TEXT NOT NULL DEFAULT '[]',
  PRIMARY KEY (interchange, seq)
) WITHOUT ROWID;
CREATE INDEX sets_by_order ON sets (order_id, kind);
CREATE INDEX sets_by_state ON sets (state);

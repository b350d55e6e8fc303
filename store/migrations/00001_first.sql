-- +goose Up
CREATE TABLE documents (
  sha         TEXT PRIMARY KEY,
  name        TEXT NOT NULL,
  size        INTEGER NOT NULL,
  shape       TEXT NOT NULL,
  received_at TEXT NOT NULL,
  received_by TEXT NOT NULL
) WITHOUT ROWID;

CREATE TABLE mappings (
  name       TEXT NOT NULL,
  version    INTEGER NOT NULL,
  text       TEXT NOT NULL,
  stored_at  TEXT NOT NULL,
  stored_by  TEXT NOT NULL,
  PRIMARY KEY (name, version)
) WITHOUT ROWID;

CREATE TABLE lists (
  name        TEXT NOT NULL,
  crosswalk   INTEGER NOT NULL, -- 1: entries are pairs of theirs (code) and ours (name)
  imported_at TEXT NOT NULL,
  PRIMARY KEY (crosswalk, name)
) WITHOUT ROWID;

CREATE TABLE list_entries (
  crosswalk  INTEGER NOT NULL,
  list       TEXT NOT NULL,
  code       TEXT NOT NULL,
  name       TEXT NOT NULL,
  attributes TEXT,
  PRIMARY KEY (crosswalk, list, code),
  FOREIGN KEY (crosswalk, list) REFERENCES lists (crosswalk, name) ON DELETE CASCADE
) WITHOUT ROWID;

CREATE TABLE loads (
  id              INTEGER PRIMARY KEY,
  document        TEXT NOT NULL REFERENCES documents (sha),
  mapping         TEXT NOT NULL,
  mapping_version INTEGER NOT NULL,
  dry_run         INTEGER NOT NULL,
  all_or_none     INTEGER NOT NULL,
  status          TEXT NOT NULL,
  rows            INTEGER NOT NULL DEFAULT 0,
  orders          INTEGER NOT NULL DEFAULT 0,
  lines           INTEGER NOT NULL DEFAULT 0,
  loaded          INTEGER NOT NULL DEFAULT 0,
  ready           INTEGER NOT NULL DEFAULT 0,
  unchanged       INTEGER NOT NULL DEFAULT 0,
  refused         INTEGER NOT NULL DEFAULT 0,
  withheld        INTEGER NOT NULL DEFAULT 0,
  errors          INTEGER NOT NULL DEFAULT 0,
  warnings        INTEGER NOT NULL DEFAULT 0,
  started_at      TEXT NOT NULL,
  ended_at        TEXT,
  by              TEXT NOT NULL,
  FOREIGN KEY (mapping, mapping_version) REFERENCES mappings (name, version)
);

CREATE TABLE orders (
  id                    INTEGER PRIMARY KEY,
  kind                  TEXT NOT NULL,
  number                TEXT NOT NULL,
  identity              TEXT NOT NULL UNIQUE,
  fingerprint           BLOB NOT NULL,
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
  load_id               INTEGER NOT NULL REFERENCES loads (id),
  load_seq              INTEGER NOT NULL, -- which order of the load's document
  UNIQUE (kind, number)
);

CREATE TABLE lines (
  order_id              INTEGER NOT NULL REFERENCES orders (id),
  n                     INTEGER NOT NULL, -- position, counted from 1
  item                  TEXT,
  description           TEXT,
  quantity              TEXT,
  unit                  TEXT,
  unit_price            TEXT,
  discount_percent      TEXT,
  amount                TEXT,
  requested_delivery_on TEXT,
  location              TEXT,
  more                  TEXT,             -- the line's rarer fields, as JSON
  PRIMARY KEY (order_id, n)
) WITHOUT ROWID;

CREATE TABLE events (
  order_id INTEGER NOT NULL REFERENCES orders (id),
  revision INTEGER NOT NULL,
  at       TEXT NOT NULL,
  by       TEXT NOT NULL,
  action   TEXT NOT NULL,
  load_id  INTEGER REFERENCES loads (id),
  changes  TEXT,                          -- what was and what is, as JSON
  PRIMARY KEY (order_id, revision)
) WITHOUT ROWID;

CREATE TABLE series (
  kind   TEXT PRIMARY KEY,
  prefix TEXT NOT NULL,
  next   INTEGER NOT NULL
) WITHOUT ROWID;
INSERT INTO series VALUES ('sales', 'SO-', 1), ('purchase', 'PO-', 1);

CREATE TABLE load_orders (
  load_id       INTEGER NOT NULL REFERENCES loads (id) ON DELETE CASCADE,
  seq           INTEGER NOT NULL,
  outcome       TEXT NOT NULL,
  order_id      INTEGER,
  number        TEXT,
  sender_number TEXT,
  lines         INTEGER NOT NULL,
  errors        INTEGER NOT NULL,
  warnings      INTEGER NOT NULL,
  PRIMARY KEY (load_id, seq)
) WITHOUT ROWID;

CREATE TABLE load_spans (
  load_id INTEGER NOT NULL REFERENCES loads (id) ON DELETE CASCADE,
  sheet   TEXT NOT NULL,
  first   INTEGER NOT NULL,
  last    INTEGER NOT NULL,
  seq     INTEGER NOT NULL,
  PRIMARY KEY (load_id, sheet, first)
) WITHOUT ROWID;

CREATE TABLE findings (
  load_id  INTEGER NOT NULL REFERENCES loads (id) ON DELETE CASCADE,
  n        INTEGER NOT NULL,
  seq      INTEGER NOT NULL,              -- order of the document; 0 is the document
  line     INTEGER NOT NULL,
  code     TEXT NOT NULL,
  severity TEXT NOT NULL,
  sheet    TEXT NOT NULL,
  row      INTEGER NOT NULL,
  col      INTEGER NOT NULL,
  in_mapping INTEGER NOT NULL,
  field    TEXT NOT NULL,
  value    TEXT NOT NULL,
  message  TEXT NOT NULL,
  hint     TEXT NOT NULL,
  PRIMARY KEY (load_id, n)
) WITHOUT ROWID;
CREATE INDEX findings_by_place ON findings (load_id, sheet, row);

CREATE TABLE tokens (
  id         INTEGER PRIMARY KEY,
  name       TEXT NOT NULL,
  scope      TEXT NOT NULL,
  hash       BLOB NOT NULL UNIQUE,
  created_at TEXT NOT NULL,
  used_at    TEXT,
  revoked_at TEXT
);

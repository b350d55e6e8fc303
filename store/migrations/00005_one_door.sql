-- +goose Up

-- Ids of orders are never given again. Where the values of an order came from
-- stands with the events that brought them.
CREATE TABLE orders_new (
  id                    INTEGER PRIMARY KEY AUTOINCREMENT,
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
  last_line             INTEGER NOT NULL, -- highest id that a line of it ever had
  more                  TEXT,             -- the header's rarer fields, as JSON
  load_id               INTEGER REFERENCES loads (id), -- that stored it
  UNIQUE (kind, number)
);
INSERT INTO orders_new SELECT id, kind, number, identity, fingerprint, status, revision, sender_number, partner, ordered_on, requested_ship_on,
  requested_delivery_on, currency, total, line_count, line_count, more, load_id FROM orders;

-- Every change of every order under one rising number: the change feed. An
-- order that was removed leaves its events.
CREATE TABLE events_new (
  n        INTEGER PRIMARY KEY AUTOINCREMENT,
  order_id INTEGER NOT NULL,
  revision INTEGER NOT NULL,
  at       TEXT NOT NULL,
  by       TEXT NOT NULL,
  action   TEXT NOT NULL,
  load_id  INTEGER REFERENCES loads (id),
  load_seq INTEGER NOT NULL DEFAULT 0,
  document TEXT REFERENCES documents (sha), -- that was posted, where no load brought it
  trace    TEXT,                            -- where in its document each value stands, by ids of lines, as JSON
  changes  TEXT,                            -- what was and what is, as JSON
  was      TEXT                             -- the whole order before a change, as JSON: what undoing puts back
);
INSERT INTO events_new (order_id, revision, at, by, action, load_id, load_seq, trace, changes, was)
  SELECT e.order_id, e.revision, e.at, e.by, e.action, e.load_id, e.load_seq, CASE WHEN e.revision = 1 THEN o.trace END, e.changes, e.was
  FROM events e JOIN orders o ON o.id = e.order_id ORDER BY e.at, e.order_id, e.revision;

-- Lines have ids of their own within their order.
CREATE TABLE lines_new (
  order_id              INTEGER NOT NULL REFERENCES orders (id),
  n                     INTEGER NOT NULL, -- position, counted from 1
  id                    INTEGER NOT NULL, -- stays with the line; never given to another one of the order
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
INSERT INTO lines_new SELECT order_id, n, n, item, description, quantity, unit, unit_price, discount_percent, amount, requested_delivery_on, location, more FROM lines;

DROP TABLE lines;
DROP TABLE events;
DROP TABLE orders;
ALTER TABLE orders_new RENAME TO orders;
ALTER TABLE events_new RENAME TO events;
ALTER TABLE lines_new RENAME TO lines;
CREATE INDEX orders_by_load ON orders (load_id) WHERE load_id IS NOT NULL;
CREATE INDEX orders_by_partner ON orders (partner COLLATE NOCASE, id);
CREATE INDEX orders_by_status ON orders (status, id);
CREATE INDEX orders_by_kind ON orders (kind, id);
CREATE INDEX orders_by_sender_number ON orders (sender_number COLLATE NOCASE) WHERE sender_number IS NOT NULL;
CREATE UNIQUE INDEX events_by_order ON events (order_id, revision);

-- Goods that moved: posted once by their number, never edited.
CREATE TABLE movements (
  id          INTEGER PRIMARY KEY AUTOINCREMENT,
  kind        TEXT NOT NULL,              -- shipment, receipt
  partner     TEXT NOT NULL,
  number      TEXT NOT NULL,
  moved_on    TEXT,
  more        TEXT,                       -- carrier, tracking and the like, as JSON
  UNIQUE (kind, partner, number)
);
CREATE TABLE movement_lines (
  movement_id INTEGER NOT NULL REFERENCES movements (id),
  order_id    INTEGER NOT NULL REFERENCES orders (id),
  line_id     INTEGER NOT NULL,
  n           INTEGER NOT NULL,
  revision    INTEGER NOT NULL,           -- of the order, that it was posted with
  quantity    TEXT NOT NULL,
  lot         TEXT,
  PRIMARY KEY (order_id, movement_id, n)
) WITHOUT ROWID;
CREATE INDEX movement_lines_by_movement ON movement_lines (movement_id);

-- What the seller said to an order or to a change that was asked for.
CREATE TABLE answers (
  order_id    INTEGER NOT NULL REFERENCES orders (id),
  revision    INTEGER NOT NULL,           -- of the order, that it came with
  content     TEXT NOT NULL,              -- the answer with its lines, as JSON
  PRIMARY KEY (order_id, revision)
) WITHOUT ROWID;

CREATE TABLE invoices (
  id          INTEGER PRIMARY KEY AUTOINCREMENT,
  partner     TEXT NOT NULL,
  number      TEXT NOT NULL,
  invoiced_on TEXT,
  currency    TEXT,
  total       TEXT,
  UNIQUE (partner, number)
);
CREATE TABLE invoice_lines (
  invoice_id  INTEGER NOT NULL REFERENCES invoices (id),
  order_id    INTEGER NOT NULL REFERENCES orders (id),
  line_id     INTEGER NOT NULL,
  n           INTEGER NOT NULL,
  revision    INTEGER NOT NULL,
  quantity    TEXT NOT NULL,
  unit_price  TEXT,
  amount      TEXT,
  PRIMARY KEY (order_id, invoice_id, n)
) WITHOUT ROWID;
CREATE INDEX invoice_lines_by_invoice ON invoice_lines (invoice_id);

-- Documents that programs post are small and come by the thousand: their bytes
-- stand beside them, and share the commit of what was made of them.
ALTER TABLE documents ADD COLUMN body BLOB;
ALTER TABLE documents ADD COLUMN posted INTEGER NOT NULL DEFAULT 0; -- the body of a request
CREATE INDEX documents_by_time ON documents (received_at, sha) WHERE posted = 0;

-- Lists and crosswalks have versions; an entry counts from one to another.
CREATE TABLE lists_new (
  name        TEXT NOT NULL,
  crosswalk   INTEGER NOT NULL, -- 1: entries are pairs of theirs (code) and ours (name)
  version     INTEGER NOT NULL,
  imported_at TEXT NOT NULL,
  PRIMARY KEY (crosswalk, name)
) WITHOUT ROWID;
INSERT INTO lists_new SELECT name, crosswalk, 1, imported_at FROM lists;
CREATE TABLE list_entries_new (
  crosswalk  INTEGER NOT NULL,
  list       TEXT NOT NULL,
  code       TEXT NOT NULL,
  since      INTEGER NOT NULL,            -- first version that has it
  until      INTEGER,                     -- first version that does not have it any more; NULL is none
  name       TEXT NOT NULL,
  attributes TEXT,
  PRIMARY KEY (crosswalk, list, code, since),
  FOREIGN KEY (crosswalk, list) REFERENCES lists (crosswalk, name)
) WITHOUT ROWID;
INSERT INTO list_entries_new SELECT crosswalk, list, code, 1, NULL, name, attributes FROM list_entries;
DROP TABLE list_entries;
DROP TABLE lists;
ALTER TABLE lists_new RENAME TO lists;
ALTER TABLE list_entries_new RENAME TO list_entries;
ALTER TABLE loads ADD COLUMN lists TEXT;  -- versions of lists and crosswalks that it maps with, as JSON
CREATE INDEX loads_by_document ON loads (document, id);
CREATE INDEX loads_by_start ON loads (started_at);
CREATE INDEX loads_by_status ON loads (status) WHERE status IN ('waiting', 'running', 'paused');

-- Places have their parts.
ALTER TABLE findings ADD COLUMN segment TEXT NOT NULL DEFAULT ''; -- X12: transaction set and segment
ALTER TABLE findings ADD COLUMN element TEXT NOT NULL DEFAULT '';
ALTER TABLE findings ADD COLUMN nearest TEXT NOT NULL DEFAULT ''; -- what the list has that is nearest
UPDATE findings SET segment = pointer, pointer = '' WHERE pointer LIKE 'ST %' OR pointer LIKE 'ISA %' OR pointer LIKE 'GS %';

-- Sets point at orders that are there.
CREATE TABLE sets_new (
  interchange   INTEGER NOT NULL REFERENCES interchanges (id),
  seq           INTEGER NOT NULL,         -- of the interchange, counted from 1
  kind          TEXT NOT NULL,            -- 850
  group_control TEXT NOT NULL,
  control       TEXT NOT NULL,
  row           INTEGER NOT NULL,         -- segment of the document with its ST
  rows          INTEGER NOT NULL,         -- how many segments it has
  state         TEXT NOT NULL,            -- in: received, done, held, rejected; out: ready, accepted, noted, rejected, held
  number        TEXT NOT NULL DEFAULT '', -- of the order, as the set has it
  order_id      INTEGER REFERENCES orders (id) ON DELETE SET NULL,
  order_revision INTEGER NOT NULL DEFAULT 0,
  load_id       INTEGER REFERENCES loads (id),
  said          TEXT,                     -- the order as the set says it, as JSON
  findings      TEXT NOT NULL DEFAULT '[]',
  PRIMARY KEY (interchange, seq)
) WITHOUT ROWID;
INSERT INTO sets_new SELECT s.interchange, s.seq, s.kind, s.group_control, s.control, s.row, s.rows, s.state, s.number,
  (SELECT id FROM orders o WHERE o.id = s.order_id), s.order_revision, (SELECT id FROM loads l WHERE l.id = s.load_id), s.said, s.findings FROM sets s;
DROP TABLE sets;
ALTER TABLE sets_new RENAME TO sets;
CREATE INDEX sets_by_order ON sets (order_id, kind) WHERE order_id IS NOT NULL;
CREATE INDEX sets_by_state ON sets (state, interchange);
CREATE INDEX sets_by_load ON sets (load_id) WHERE load_id IS NOT NULL;

-- What is to be done, and goes on whatever ends: loads, runs of sequences,
-- interchanges.
CREATE TABLE jobs (
  kind     TEXT NOT NULL,                 -- load, run, interchange
  subject  INTEGER NOT NULL,              -- its id
  state    TEXT NOT NULL,                 -- ready, working, paused
  due_at   TEXT NOT NULL,                 -- not before
  tries    INTEGER NOT NULL DEFAULT 0,    -- that ended in an error that may pass
  deaths   INTEGER NOT NULL DEFAULT 0,    -- services that ended while they worked at it
  reason   TEXT NOT NULL DEFAULT '',      -- why it waits
  PRIMARY KEY (kind, subject)
) WITHOUT ROWID;
CREATE INDEX jobs_by_time ON jobs (state, due_at);
INSERT INTO jobs SELECT 'load', id, 'ready', started_at, 0, 0, '' FROM loads WHERE status IN ('waiting', 'running');
INSERT INTO jobs SELECT 'run', id, 'ready', started_at, 0, 0, '' FROM runs WHERE status = 'running';
INSERT INTO jobs SELECT 'interchange', id, 'ready', at, 0, 0, '' FROM interchanges WHERE state IN ('received', 'ready');

-- What waits for a person, with the reason and what is needed to go on.
CREATE TABLE held (
  id       INTEGER PRIMARY KEY AUTOINCREMENT,
  kind     TEXT NOT NULL,                 -- order, set, notice, job
  load_id  INTEGER REFERENCES loads (id), -- order: the load, and which order of its document
  load_seq INTEGER NOT NULL DEFAULT 0,
  interchange INTEGER REFERENCES interchanges (id), -- set, notice
  set_seq  INTEGER NOT NULL DEFAULT 0,
  order_id INTEGER REFERENCES orders (id) ON DELETE SET NULL,
  partner  TEXT NOT NULL,
  number   TEXT NOT NULL,                 -- of the order, as it is known
  code     TEXT NOT NULL,                 -- of the first finding
  reason   TEXT NOT NULL,                 -- in a sentence
  since    TEXT NOT NULL
);
CREATE UNIQUE INDEX held_by_order ON held (load_id, load_seq) WHERE kind = 'order';
CREATE UNIQUE INDEX held_by_set ON held (interchange, set_seq) WHERE kind <> 'order';

-- One row that is written to find out whether writing works.
CREATE TABLE pulse (id INTEGER PRIMARY KEY CHECK (id = 1), at TEXT NOT NULL);
INSERT INTO pulse VALUES (1, '');

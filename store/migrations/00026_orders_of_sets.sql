-- +goose Up

-- A transaction set speaks of one order, or of several, as a notice of a shipment does. What a set says of each order
-- stands in a table of its own.
CREATE TABLE sets_new (
  interchange   INTEGER NOT NULL REFERENCES interchanges (id),
  seq           INTEGER NOT NULL,         -- of the interchange, counted from 1
  kind          TEXT NOT NULL,            -- 850
  group_control TEXT NOT NULL,
  control       TEXT NOT NULL,
  row           INTEGER NOT NULL,         -- segment of the document with its ST
  rows          INTEGER NOT NULL,         -- how many segments it has
  state         TEXT NOT NULL,            -- in: received, done, held, rejected; out: ready, accepted, noted, rejected, held
  load_id       INTEGER REFERENCES loads (id),
  findings      TEXT NOT NULL DEFAULT '[]',
  PRIMARY KEY (interchange, seq)
) WITHOUT ROWID;
INSERT INTO sets_new SELECT interchange, seq, kind, group_control, control, row, rows, state, load_id, findings FROM sets;
CREATE TABLE set_orders_new (
  interchange    INTEGER NOT NULL,
  set_seq        INTEGER NOT NULL,
  place          INTEGER NOT NULL,         -- of the order in the set, counted from 1
  order_id       INTEGER REFERENCES orders (id) ON DELETE SET NULL,
  number         TEXT NOT NULL DEFAULT '', -- of the order, as the set has it
  order_revision INTEGER NOT NULL DEFAULT 0,
  said           TEXT,                     -- the order as the set says it, as JSON
  PRIMARY KEY (interchange, set_seq, place),
  FOREIGN KEY (interchange, set_seq) REFERENCES sets (interchange, seq) ON DELETE CASCADE
) WITHOUT ROWID;
INSERT INTO set_orders_new SELECT interchange, seq, 1, order_id, number, order_revision, said FROM sets
  WHERE order_id IS NOT NULL OR number <> '' OR said IS NOT NULL;
DROP TABLE sets;
ALTER TABLE sets_new RENAME TO sets;
ALTER TABLE set_orders_new RENAME TO set_orders;
CREATE INDEX sets_by_state ON sets (state, interchange);
CREATE INDEX sets_by_load ON sets (load_id) WHERE load_id IS NOT NULL;
CREATE INDEX set_orders_by_order ON set_orders (order_id) WHERE order_id IS NOT NULL;

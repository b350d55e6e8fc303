-- +goose Up

-- Exports that somebody keeps under a name: what is chosen, and up to which event orders were written last.
CREATE TABLE exports (
  name     TEXT PRIMARY KEY,
  choice   TEXT NOT NULL,               -- query of GET /orders/export
  position INTEGER NOT NULL DEFAULT 0,  -- in the change feed
  at       TEXT NOT NULL,
  by       TEXT NOT NULL
) WITHOUT ROWID;

-- Orders of which nothing has moved, by the day for which they were wanted: those that are overdue.
CREATE INDEX orders_due ON orders (requested_delivery_on) WHERE status IN ('open', 'confirmed') AND requested_delivery_on IS NOT NULL;

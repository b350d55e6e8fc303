-- +goose Up
-- Which record of another system an order here is there, with what both said when they last agreed.
CREATE TABLE links (
  system   TEXT NOT NULL,
  record   TEXT NOT NULL,
  order_id INTEGER NOT NULL,         -- of an order that may be gone; ids are never used again
  key      TEXT NOT NULL,
  number   TEXT NOT NULL,            -- what people call it there
  revision INTEGER NOT NULL,         -- of the order, when they last agreed; 0 is not yet
  agreed   TEXT NOT NULL,            -- what the record should have said then, JSON
  at       TEXT NOT NULL,            -- when it was written
  PRIMARY KEY (system, record, order_id)
) WITHOUT ROWID;
CREATE UNIQUE INDEX links_by_key ON links (system, record, key);
CREATE INDEX links_by_order ON links (order_id);

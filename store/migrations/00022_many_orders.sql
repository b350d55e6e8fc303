-- +goose Up

-- Lists of very many orders: a partner's, a kind's and a status's orders are runs of one index each, newest last, and
-- how many orders there are is counted as they come.
DROP INDEX orders_by_partner;
DROP INDEX orders_by_status;
DROP INDEX orders_by_kind;
CREATE INDEX orders_by_partner ON orders (partner COLLATE NOCASE, kind, status, id);
CREATE INDEX orders_by_kind ON orders (kind, status, id);
CREATE TABLE totals (
  of TEXT PRIMARY KEY,
  n  INTEGER NOT NULL
) WITHOUT ROWID;
INSERT INTO totals SELECT 'orders', count(*) FROM orders;

-- +goose Up

-- An order about which a partner need not be told anything is not examined again until it has changed, or until
-- another set about it has come, was sent, or was rejected.
CREATE TABLE examined (
  order_id INTEGER NOT NULL REFERENCES orders (id) ON DELETE CASCADE,
  kind     TEXT NOT NULL,    -- of the set: 856
  revision INTEGER NOT NULL, -- of the order
  sets     INTEGER NOT NULL, -- how many sets about the order there were, without those that are held or rejected
  PRIMARY KEY (order_id, kind)
) WITHOUT ROWID;

-- Partners are now told by an 865, too, what we change by ourselves. What was changed before is told with the next
-- change of its order, not all at once.
INSERT INTO examined SELECT o.id, '865', o.revision, (SELECT count(*) FROM set_orders so JOIN sets s ON s.interchange = so.interchange
    AND s.seq = so.set_seq JOIN interchanges i ON i.id = so.interchange
    WHERE so.order_id = o.id AND i.partner = o.partner AND s.state NOT IN ('held', 'rejected'))
  FROM orders o WHERE o.id IN (SELECT so.order_id FROM set_orders so JOIN sets s ON s.interchange = so.interchange AND s.seq = so.set_seq
    WHERE s.kind = '855');

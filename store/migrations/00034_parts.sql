-- +goose Up

-- The order before a change is written down without its lines where they stayed as they were, apart from what had moved
-- and was invoiced of them: they are those of the order after it.
ALTER TABLE events ADD COLUMN same_lines INTEGER NOT NULL DEFAULT 0;

-- What a movement, or an invoice, says of an order is one row with all of its lines.
CREATE TABLE movement_parts (
  order_id    INTEGER NOT NULL REFERENCES orders (id),
  movement_id INTEGER NOT NULL REFERENCES movements (id),
  revision    INTEGER NOT NULL,           -- of the order, that it was posted with
  lines       TEXT NOT NULL,              -- how much of which line moved, as JSON
  PRIMARY KEY (order_id, movement_id, revision)
) WITHOUT ROWID;
INSERT INTO movement_parts SELECT order_id, movement_id, revision, json_group_array(json_patch(json_patch(
    json_object('line', line_id, 'quantity', quantity), json_object('lot', lot)), coalesce(more, '{}')) ORDER BY n)
  FROM movement_lines GROUP BY order_id, movement_id, revision;
DROP TABLE movement_lines;
CREATE INDEX movement_parts_by_movement ON movement_parts (movement_id);

UPDATE invoice_parts AS p SET content = json_set(p.content, '$.lines', json((SELECT json_group_array(json_patch(json_patch(
    '{}', json_object('line', line_id, 'quantity', quantity, 'unit_price', unit_price, 'amount', amount)), coalesce(more, '{}')) ORDER BY n)
  FROM invoice_lines l WHERE l.order_id = p.order_id AND l.invoice_id = p.invoice_id AND l.revision = p.revision)));
DROP TABLE invoice_lines;
CREATE INDEX invoice_parts_by_invoice ON invoice_parts (invoice_id);

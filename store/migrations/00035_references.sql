-- +goose Up

-- The references of orders, by which notices find them. Triggers keep them as the orders say them, whoever writes an
-- order; a migration that rebuilds orders has to make them again.
CREATE TABLE order_references (
  qualifier TEXT NOT NULL,
  value     TEXT NOT NULL COLLATE NOCASE,
  order_id  INTEGER NOT NULL REFERENCES orders (id),
  PRIMARY KEY (qualifier, value, order_id)
) WITHOUT ROWID;

INSERT OR IGNORE INTO order_references
  SELECT r.value ->> 'qualifier', r.value ->> 'value', o.id FROM orders o, json_each(o.more, '$.references') r
  WHERE o.more LIKE '%"references":%';

-- +goose StatementBegin
CREATE TRIGGER references_of_new AFTER INSERT ON orders WHEN new.more LIKE '%"references":%'
BEGIN
  INSERT OR IGNORE INTO order_references
    SELECT r.value ->> 'qualifier', r.value ->> 'value', new.id FROM json_each(new.more, '$.references') r;
END;
-- +goose StatementEnd

-- +goose StatementBegin
CREATE TRIGGER references_of_changed AFTER UPDATE OF more ON orders
  WHEN (old.more LIKE '%"references":%' OR new.more LIKE '%"references":%')
    AND old.more -> '$.references' IS NOT new.more -> '$.references'
BEGIN
  DELETE FROM order_references WHERE order_id = new.id AND (qualifier, value) IN
    (SELECT r.value ->> 'qualifier', r.value ->> 'value' FROM json_each(old.more, '$.references') r);
  INSERT OR IGNORE INTO order_references
    SELECT r.value ->> 'qualifier', r.value ->> 'value', new.id FROM json_each(new.more, '$.references') r;
END;
-- +goose StatementEnd

-- +goose StatementBegin
CREATE TRIGGER references_of_removed BEFORE DELETE ON orders WHEN old.more LIKE '%"references":%'
BEGIN
  DELETE FROM order_references WHERE order_id = old.id AND (qualifier, value) IN
    (SELECT r.value ->> 'qualifier', r.value ->> 'value' FROM json_each(old.more, '$.references') r);
END;
-- +goose StatementEnd

-- +goose Up

-- What was said of a line that moved besides its quantity (another unit, the package), and of a line that was invoiced
-- (price basis, discount, tax), as JSON.
ALTER TABLE movement_lines ADD COLUMN more TEXT;
ALTER TABLE invoice_lines ADD COLUMN more TEXT;

-- What an invoice says of an order besides its lines: charges, tax, total, and the invoice that it takes back, as JSON.
CREATE TABLE invoice_parts (
  order_id   INTEGER NOT NULL REFERENCES orders (id),
  invoice_id INTEGER NOT NULL REFERENCES invoices (id),
  revision   INTEGER NOT NULL,
  content    TEXT NOT NULL,
  PRIMARY KEY (order_id, invoice_id, revision)
) WITHOUT ROWID;
INSERT INTO invoice_parts SELECT DISTINCT l.order_id, l.invoice_id, l.revision,
  CASE WHEN v.total IS NULL THEN '{}' ELSE json_object('total_stated', v.total) END
  FROM invoice_lines l JOIN invoices v ON v.id = l.invoice_id;
ALTER TABLE invoices DROP COLUMN total;

-- Codes of warnings that a person accepted for what an interchange asks for, with commas between.
ALTER TABLE interchanges ADD COLUMN accept TEXT NOT NULL DEFAULT '';

-- Interchanges that their sender marks as a test (ISA15) touch no order.
ALTER TABLE interchanges ADD COLUMN test INTEGER NOT NULL DEFAULT 0;

INSERT INTO series VALUES ('invoice', 'IN-', 1);

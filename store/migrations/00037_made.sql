-- +goose Up

-- What a request with an idempotency key has made of which order, written in the commit that makes it: whatever ends
-- before the request is answered, the same request again does not make it once more.
ALTER TABLE requests ADD COLUMN order_id INTEGER;
ALTER TABLE requests ADD COLUMN revision INTEGER;

-- What is still to be forgotten of requests, by time: that one has made something of an order is known for good.
DROP INDEX requests_by_time;
CREATE INDEX requests_by_time ON requests (at) WHERE order_id IS NULL OR status IS NOT NULL;

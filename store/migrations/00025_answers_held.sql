-- +goose Up

-- A supplier's answer that is not what was ordered waits for a person: one thing an order.
CREATE UNIQUE INDEX held_by_answer ON held (order_id) WHERE kind = 'answer';

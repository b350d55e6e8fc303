-- +goose Up

-- How an interchange that comes once more is told from another one with its control number.
ALTER TABLE interchanges ADD COLUMN arrival TEXT NOT NULL DEFAULT '';  -- in: the same when one arrival is taken up again
ALTER TABLE interchanges ADD COLUMN content TEXT NOT NULL DEFAULT '';  -- in: SHA-256 of its bytes without ends of lines
ALTER TABLE interchanges ADD COLUMN ruling TEXT NOT NULL DEFAULT '';   -- in: let_in or refused, where a person had to say
ALTER TABLE interchanges ADD COLUMN ruled_by TEXT NOT NULL DEFAULT '';
CREATE INDEX interchanges_by_answer ON interchanges (answers) WHERE answers IS NOT NULL;
CREATE UNIQUE INDEX held_by_interchange ON held (interchange) WHERE kind = 'interchange';

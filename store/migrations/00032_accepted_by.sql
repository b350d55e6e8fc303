-- +goose Up

-- Who accepted the warnings of an interchange last.
ALTER TABLE interchanges ADD COLUMN accepted_by TEXT NOT NULL DEFAULT '';

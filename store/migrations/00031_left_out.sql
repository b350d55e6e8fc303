-- +goose Up

-- What the conditions of a mapping left out of a document.
ALTER TABLE loads ADD COLUMN left_out INTEGER NOT NULL DEFAULT 0;
ALTER TABLE loads ADD COLUMN rows_left_out INTEGER NOT NULL DEFAULT 0;

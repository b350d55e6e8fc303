-- +goose Up

-- What a token is narrowed to, as JSON lists of names; [] is everything.
ALTER TABLE tokens ADD COLUMN partners TEXT NOT NULL DEFAULT '[]';
ALTER TABLE tokens ADD COLUMN mappings TEXT NOT NULL DEFAULT '[]';

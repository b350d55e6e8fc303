-- +goose Up
ALTER TABLE findings ADD COLUMN pointer TEXT NOT NULL DEFAULT ''; -- JSON Pointer of the value
ALTER TABLE findings ADD COLUMN source_line INTEGER NOT NULL DEFAULT 0; -- line of NDJSON
ALTER TABLE findings ADD COLUMN list TEXT NOT NULL DEFAULT '';    -- list or crosswalk that does not have it

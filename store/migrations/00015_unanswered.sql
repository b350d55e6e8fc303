-- +goose Up
CREATE INDEX links_unanswered ON links (system, record, at) WHERE found = '' AND revision > 0;

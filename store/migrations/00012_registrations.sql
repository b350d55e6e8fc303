-- +goose Up
-- Where our address is registered for the webhooks of a system.
CREATE TABLE registrations (
  system TEXT NOT NULL,
  url    TEXT NOT NULL,
  at     TEXT NOT NULL,
  PRIMARY KEY (system, url)
) WITHOUT ROWID;

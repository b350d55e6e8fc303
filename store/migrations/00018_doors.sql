-- +goose Up
ALTER TABLE tokens ADD COLUMN expires_at TEXT; -- NULL: it does not end by itself

-- What administrators changed.
CREATE TABLE audit (
  id      INTEGER PRIMARY KEY AUTOINCREMENT,
  at      TEXT NOT NULL,
  by      TEXT NOT NULL,                  -- name of the token, or local
  token   INTEGER,                        -- NULL: none was needed
  from_ip TEXT NOT NULL,
  did     TEXT NOT NULL,                  -- operation, as the API's description calls it
  path    TEXT NOT NULL,
  status  INTEGER NOT NULL,
  request TEXT NOT NULL                   -- id, as the log has it
);

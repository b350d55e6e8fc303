-- +goose Up
-- Messages of systems about what happened there, kept before they are answered; the same id once.
CREATE TABLE hooks (
  id      INTEGER PRIMARY KEY AUTOINCREMENT,
  system  TEXT NOT NULL,
  hook_id TEXT NOT NULL,       -- the system's id of the message
  event   TEXT NOT NULL,
  state   TEXT NOT NULL,       -- taken (a pull reads what it is about), passed over (the event brings nothing)
  body    BLOB,                -- gzip; absent once its time to live is over
  at      TEXT NOT NULL,
  UNIQUE (system, hook_id)
);
CREATE INDEX hooks_by_time ON hooks (at) WHERE body IS NOT NULL;
ALTER TABLE pulls ADD COLUMN hook INTEGER REFERENCES hooks (id); -- the message that it is about

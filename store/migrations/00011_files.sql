-- +goose Up
-- Files that came into the folders of systems, each at every appearance.
CREATE TABLE files (
  id       INTEGER PRIMARY KEY AUTOINCREMENT,
  system   TEXT NOT NULL,
  record   TEXT NOT NULL,
  name     TEXT NOT NULL,
  size     INTEGER NOT NULL,
  modified TEXT NOT NULL,      -- when it was changed last, as the folder says
  file_id  TEXT NOT NULL,      -- what its head or tail names it; a digest where it has no id
  state    TEXT NOT NULL,      -- taken, repeated (its id came before), refused
  reason   TEXT NOT NULL,      -- why it is refused
  records  INTEGER NOT NULL,
  document TEXT NOT NULL REFERENCES documents (sha), -- its bytes
  answer   TEXT NOT NULL,      -- name of the file that answers it; '' is none
  settled  INTEGER NOT NULL,   -- it was answered, and moved or removed where that is asked
  pull     INTEGER NOT NULL REFERENCES pulls (id),
  at       TEXT NOT NULL
);
CREATE INDEX files_by_id ON files (system, record, file_id, id);
CREATE INDEX files_by_name ON files (system, record, name, id);
CREATE INDEX files_by_system ON files (system, id);
ALTER TABLE pulls ADD COLUMN folder INTEGER NOT NULL DEFAULT 0;  -- it read files; pages counts them
ALTER TABLE pulls ADD COLUMN waiting INTEGER NOT NULL DEFAULT 0; -- files whose end was not there yet
ALTER TABLE pulls ADD COLUMN refused INTEGER NOT NULL DEFAULT 0; -- files that were refused

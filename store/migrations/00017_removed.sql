-- +goose Up
-- Names that are not used any more. Versions of what had the name stay, for what was loaded with them.
CREATE TABLE removed (
  kind   TEXT NOT NULL,                   -- mapping, sequence, list, crosswalk
  name   TEXT NOT NULL,
  at     TEXT NOT NULL,
  by     TEXT NOT NULL,
  became TEXT,                            -- the name that it has now; NULL: it was removed
  PRIMARY KEY (kind, name)
) WITHOUT ROWID;

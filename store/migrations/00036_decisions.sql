-- +goose Up

-- What a person decided about the changes that a transaction set asks for: which of its lines are taken.
CREATE TABLE decisions (
  interchange INTEGER NOT NULL REFERENCES interchanges (id),
  set_seq     INTEGER NOT NULL,
  taken       TEXT NOT NULL, -- positions of lines in the set, as JSON; 0 is its header
  by          TEXT NOT NULL,
  at          TEXT NOT NULL,
  PRIMARY KEY (interchange, set_seq)
) WITHOUT ROWID;

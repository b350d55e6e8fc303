-- +goose Up

-- Each time that an interchange of ours left, and of which one it is a copy under numbers of its own.
ALTER TABLE interchanges ADD COLUMN copy_of INTEGER REFERENCES interchanges (id);
CREATE INDEX interchanges_by_copy ON interchanges (copy_of) WHERE copy_of IS NOT NULL;
CREATE TABLE departures (
  interchange INTEGER NOT NULL REFERENCES interchanges (id),
  at          TEXT NOT NULL,
  by          TEXT NOT NULL
);
CREATE INDEX departures_by_interchange ON departures (interchange);
INSERT INTO departures SELECT id, sent_at, by FROM interchanges WHERE sent_at IS NOT NULL AND direction = 'out' ORDER BY id;

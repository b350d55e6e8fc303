-- +goose Up
-- Who is told of what happens to orders, and what they were told.
CREATE TABLE subscriptions (
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  name       TEXT NOT NULL UNIQUE,
  url        TEXT NOT NULL,
  events     TEXT NOT NULL,              -- JSON list of types; [] is every type
  partner    TEXT NOT NULL,              -- only orders of this partner; '' is any
  secret     TEXT NOT NULL,              -- where it is found, env:NAME or file:PATH; never itself
  state      TEXT NOT NULL,              -- active, away (tried now and then), paused (by somebody, or because they want no more)
  reason     TEXT NOT NULL,
  since      TEXT NOT NULL,              -- of the state
  position   INTEGER NOT NULL,           -- number of the last event that was looked at
  created_at TEXT NOT NULL,
  created_by TEXT NOT NULL
);
CREATE TABLE deliveries (
  id           INTEGER PRIMARY KEY AUTOINCREMENT,
  subscription INTEGER NOT NULL REFERENCES subscriptions (id) ON DELETE CASCADE,
  event        INTEGER NOT NULL,         -- number of the event
  type         TEXT NOT NULL,
  hook_id      TEXT NOT NULL,            -- the message's id, the same at every attempt
  body         TEXT NOT NULL,
  state        TEXT NOT NULL,            -- waiting, delivered, failed
  attempts     INTEGER NOT NULL,
  made_at      TEXT NOT NULL,
  due_at       TEXT NOT NULL,            -- of a waiting one
  last_at      TEXT,                     -- of the last attempt
  status       INTEGER NOT NULL,         -- of the last answer; 0 is none
  why          TEXT NOT NULL,
  UNIQUE (subscription, event)
);
CREATE INDEX deliveries_due ON deliveries (subscription, due_at) WHERE state = 'waiting';
CREATE INDEX deliveries_by_state ON deliveries (subscription, state, id);
CREATE INDEX deliveries_by_time ON deliveries (made_at) WHERE state <> 'waiting';

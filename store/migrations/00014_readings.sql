-- +goose Up
-- How a pull reads besides its mapping: parameters, a condition, what becomes of records that are no orders here; JSON.
ALTER TABLE pulls ADD COLUMN reading TEXT NOT NULL DEFAULT '{}';
ALTER TABLE pulls ADD COLUMN passed INTEGER NOT NULL DEFAULT 0; -- records that were passed over

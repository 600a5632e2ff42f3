-- +goose Up
-- How often a job was started: one that was started twice without an end is not started again.
ALTER TABLE jobs ADD COLUMN starts INTEGER NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE jobs DROP COLUMN starts;

-- +goose Up
-- Whether a dependent can be told to read its files again while it runs.
ALTER TABLE dependents ADD COLUMN reloads INTEGER NOT NULL DEFAULT 0;

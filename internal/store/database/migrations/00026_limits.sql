-- +goose Up
-- What a dependent can carry of a password (JSON), as a person said; '' for no limit.
ALTER TABLE dependents ADD COLUMN value_limit TEXT NOT NULL DEFAULT '';

-- +goose Up
-- Where a former value was found to be refused is not asked again: each question is one
-- more wrong password.
ALTER TABLE looks ADD COLUMN refused TEXT NOT NULL DEFAULT '[]';

-- +goose Up
-- A rule may have what it matches taken into custody, in a window.
ALTER TABLE rules ADD COLUMN take_in INTEGER REFERENCES windows (id);
ALTER TABLE rules ADD COLUMN take_unread INTEGER NOT NULL DEFAULT 0;
-- What came of that for those that could not be taken.
CREATE TABLE takings (
    account_id INTEGER PRIMARY KEY REFERENCES accounts (id) ON DELETE CASCADE, rule TEXT NOT NULL, tried TEXT NOT NULL, words TEXT NOT NULL
);

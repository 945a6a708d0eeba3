-- +goose Up
-- For which rotations a second person is needed.
CREATE TABLE requirements (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE, label TEXT NOT NULL DEFAULT '', restarts INTEGER NOT NULL DEFAULT 0, kinds TEXT NOT NULL DEFAULT '[]', unread INTEGER NOT NULL DEFAULT 0, hours INTEGER NOT NULL,
    description TEXT NOT NULL DEFAULT '', revision INTEGER NOT NULL DEFAULT 1, changed TEXT NOT NULL, changed_by TEXT NOT NULL
);
-- How a rotation that needs one came to begin.
ALTER TABLE rotations ADD COLUMN consent TEXT NOT NULL DEFAULT '';

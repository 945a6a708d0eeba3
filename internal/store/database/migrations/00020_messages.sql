-- +goose Up
-- Recipients are told what happens, in messages that wait here until they were taken.
CREATE TABLE recipients (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE, kind TEXT NOT NULL, address TEXT NOT NULL, settings TEXT NOT NULL, sealed BLOB, paused INTEGER NOT NULL DEFAULT 0, since TEXT NOT NULL,
    description TEXT NOT NULL DEFAULT '', revision INTEGER NOT NULL DEFAULT 1, changed TEXT NOT NULL, changed_by TEXT NOT NULL
);
CREATE TABLE messages (
    id INTEGER PRIMARY KEY, recipient_id INTEGER NOT NULL REFERENCES recipients (id) ON DELETE CASCADE, mark TEXT NOT NULL, state TEXT NOT NULL, events TEXT NOT NULL, number INTEGER NOT NULL, severity INTEGER NOT NULL, subject TEXT NOT NULL,
    attempts INTEGER NOT NULL DEFAULT 0, made TEXT NOT NULL, due TEXT NOT NULL, tried TEXT NOT NULL DEFAULT '', words TEXT NOT NULL DEFAULT ''
);
CREATE INDEX messages_waiting ON messages (recipient_id, id) WHERE state = 'waiting';
CREATE INDEX messages_state ON messages (recipient_id, state, id);
-- What of findings was told: those of before are not news.
ALTER TABLE findings ADD COLUMN told TEXT NOT NULL DEFAULT '';
ALTER TABLE findings ADD COLUMN told_cleared TEXT NOT NULL DEFAULT '';
UPDATE findings SET told = raised, told_cleared = cleared;
CREATE INDEX findings_untold ON findings (id) WHERE cleared = '' AND told <> raised;
CREATE INDEX findings_untold_cleared ON findings (id) WHERE cleared <> '' AND told = raised AND told_cleared <> cleared;

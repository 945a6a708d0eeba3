-- +goose Up
-- What became of accounts, dependents and systems, from one look to the next. Readings
-- before this version left no trace: it begins with the next survey.
CREATE TABLE changes (
    id INTEGER PRIMARY KEY,
    at TEXT NOT NULL,
    subject TEXT NOT NULL,
    what TEXT NOT NULL,
    name TEXT NOT NULL,
    kind TEXT NOT NULL,
    system TEXT NOT NULL,
    made_by TEXT NOT NULL DEFAULT '',
    rotation_id INTEGER NOT NULL DEFAULT 0,
    survey_id INTEGER NOT NULL DEFAULT 0,
    system_id INTEGER REFERENCES systems (id) ON DELETE SET NULL,
    account_id INTEGER REFERENCES accounts (id) ON DELETE CASCADE,
    dependent_id INTEGER REFERENCES dependents (id) ON DELETE CASCADE,
    fields TEXT NOT NULL DEFAULT '[]'
);
CREATE INDEX changes_at ON changes (at);
CREATE INDEX changes_system ON changes (system_id, at);
CREATE INDEX changes_account ON changes (account_id) WHERE account_id IS NOT NULL;
CREATE INDEX changes_dependent ON changes (dependent_id) WHERE dependent_id IS NOT NULL;

-- Where a session was begun from, and the name by which it is ended: its hash is not told.
ALTER TABLE sessions ADD COLUMN address TEXT NOT NULL DEFAULT '';

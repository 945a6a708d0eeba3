-- +goose Up
-- Charters with all their versions, and what they come to: a line for each thing of a charter
-- and each account that it is for, from when it was so until it was otherwise.
ALTER TABLE right_principals ADD COLUMN dn TEXT NOT NULL DEFAULT '';
CREATE TABLE charters (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE, label TEXT NOT NULL, document TEXT NOT NULL, description TEXT NOT NULL,
    revision INTEGER NOT NULL DEFAULT 1, changed TEXT NOT NULL, changed_by TEXT NOT NULL
);
CREATE TABLE charter_versions (
    charter TEXT NOT NULL COLLATE NOCASE, version INTEGER NOT NULL, document TEXT NOT NULL, changed TEXT NOT NULL, changed_by TEXT NOT NULL, PRIMARY KEY (charter, version)
) WITHOUT ROWID;
CREATE TABLE charter_lines (
    id INTEGER PRIMARY KEY,
    charter_id INTEGER NOT NULL REFERENCES charters (id) ON DELETE CASCADE,
    system_id INTEGER NOT NULL REFERENCES systems (id) ON DELETE CASCADE,
    account_id INTEGER REFERENCES accounts (id) ON DELETE CASCADE,
    section TEXT NOT NULL, item TEXT NOT NULL, state TEXT NOT NULL, was TEXT NOT NULL DEFAULT '', why TEXT NOT NULL, at_next TEXT NOT NULL,
    detail TEXT NOT NULL, since TEXT NOT NULL, ended TEXT NOT NULL DEFAULT ''
);
CREATE INDEX charter_lines_system ON charter_lines (system_id, charter_id, ended);
CREATE INDEX charter_lines_charter ON charter_lines (charter_id, ended, state);
CREATE INDEX charter_lines_account ON charter_lines (account_id, ended);

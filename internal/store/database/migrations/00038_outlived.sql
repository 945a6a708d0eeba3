-- +goose Up
-- What has outlived its purpose, of accounts and keys: the number of a row is that of the
-- account, or of the place of the key below zero.
CREATE TABLE outlived (
    id           INTEGER PRIMARY KEY,
    system_id    INTEGER NOT NULL,
    account_id   INTEGER REFERENCES accounts (id) ON DELETE CASCADE,
    dependent_id INTEGER REFERENCES dependents (id) ON DELETE CASCADE,
    points       INTEGER NOT NULL,
    reasons      TEXT NOT NULL, -- JSON
    remedy       TEXT NOT NULL,
    uses         INTEGER NOT NULL,
    since        TEXT NOT NULL
) STRICT;
CREATE INDEX outlived_points ON outlived (points DESC);
CREATE INDEX outlived_system ON outlived (system_id);
CREATE INDEX outlived_account ON outlived (account_id);
CREATE INDEX outlived_dependent ON outlived (dependent_id);

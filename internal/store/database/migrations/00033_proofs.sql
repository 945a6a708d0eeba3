-- +goose Up
-- Experiments: which rights of a charter a job needs.
CREATE TABLE proofs (
    id INTEGER PRIMARY KEY, charter TEXT NOT NULL, version INTEGER NOT NULL, account_id INTEGER NOT NULL, account TEXT NOT NULL, system TEXT NOT NULL, system_id INTEGER NOT NULL,
    job TEXT NOT NULL, rights TEXT NOT NULL, beside TEXT NOT NULL, reason TEXT NOT NULL, amendment_id INTEGER NOT NULL, state TEXT NOT NULL, words TEXT NOT NULL DEFAULT '', report TEXT NOT NULL DEFAULT '',
    created TEXT NOT NULL, created_by TEXT NOT NULL, ended TEXT NOT NULL DEFAULT ''
);
CREATE INDEX proofs_open ON proofs (state) WHERE state IN ('waits', 'running');

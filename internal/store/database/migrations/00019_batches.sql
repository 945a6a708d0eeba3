-- +goose Up
-- Batches are rotations that were asked for together: all are rehearsed first, and then
-- carried out, so many at the same time.
CREATE TABLE batches (
    id INTEGER PRIMARY KEY, requested_by TEXT NOT NULL, reason TEXT NOT NULL, chosen TEXT NOT NULL, wish TEXT NOT NULL, at_once INTEGER NOT NULL,
    state TEXT NOT NULL, despite INTEGER NOT NULL DEFAULT 0, created TEXT NOT NULL, ended TEXT NOT NULL DEFAULT ''
);
CREATE TABLE batch_items (
    batch_id INTEGER NOT NULL REFERENCES batches (id) ON DELETE CASCADE, position INTEGER NOT NULL, credential_id INTEGER NOT NULL REFERENCES credentials (id) ON DELETE CASCADE,
    state TEXT NOT NULL, words TEXT NOT NULL DEFAULT '', restarts INTEGER NOT NULL DEFAULT 0, behind TEXT NOT NULL DEFAULT '[]', rotation_id INTEGER,
    PRIMARY KEY (batch_id, position)
) WITHOUT ROWID;
CREATE INDEX batch_items_credential ON batch_items (credential_id);

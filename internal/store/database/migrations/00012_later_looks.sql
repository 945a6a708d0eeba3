-- +goose Up
-- A rotation that has ended is looked at again an hour later: when that is due, which
-- wrong passwords were our own, what was seen.
CREATE TABLE looks (
    rotation_id INTEGER PRIMARY KEY REFERENCES rotations(id) ON DELETE CASCADE,
    due TEXT NOT NULL,
    own TEXT NOT NULL DEFAULT '{}',
    looked TEXT NOT NULL DEFAULT '',
    checks TEXT NOT NULL DEFAULT '[]'
);
CREATE INDEX looks_due ON looks (due) WHERE due <> '';

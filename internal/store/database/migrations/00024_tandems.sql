-- +goose Up
-- Two accounts of one authority that take turns: the credential of the one that works, and
-- of the one that rests.
CREATE TABLE tandems (
    id INTEGER PRIMARY KEY, working INTEGER NOT NULL UNIQUE REFERENCES credentials (id), resting INTEGER NOT NULL UNIQUE REFERENCES credentials (id),
    rests INTEGER NOT NULL DEFAULT 0, turned TEXT NOT NULL DEFAULT '', reason TEXT NOT NULL DEFAULT '', added TEXT NOT NULL, added_by TEXT NOT NULL,
    CHECK (working <> resting)
);
-- Of a rotation in which two take turns: the credential that gets the new value.
ALTER TABLE rotations ADD COLUMN next_credential_id INTEGER REFERENCES credentials (id);
CREATE INDEX rotations_next ON rotations (next_credential_id) WHERE next_credential_id IS NOT NULL;

-- +goose Up
-- Where secrets may be sent is sealed with each system, who is a person is
-- marked with a key of the service, and what takes two people is asked and
-- approved.
ALTER TABLE users ADD COLUMN mark TEXT NOT NULL DEFAULT '';
-- Bearers are stored by a keyed hash from now on: everybody signs in again.
DELETE FROM sessions;
UPDATE tokens SET revoked = strftime('%Y-%m-%dT%H:%M:%fZ', 'now') WHERE revoked = '';
ALTER TABLE sessions ADD COLUMN mark TEXT NOT NULL DEFAULT '';
ALTER TABLE tokens ADD COLUMN mark TEXT NOT NULL DEFAULT '';
ALTER TABLE systems ADD COLUMN endpoint BLOB;
ALTER TABLE systems ADD COLUMN trusted_words TEXT NOT NULL DEFAULT '';
CREATE TABLE approvals (
    id INTEGER PRIMARY KEY, kind TEXT NOT NULL, subject TEXT NOT NULL, what TEXT NOT NULL, detail TEXT NOT NULL, mark TEXT NOT NULL,
    reason TEXT NOT NULL, asked_by TEXT NOT NULL, asked TEXT NOT NULL, state TEXT NOT NULL,
    decided_by TEXT NOT NULL DEFAULT '', decided TEXT NOT NULL DEFAULT '', words TEXT NOT NULL DEFAULT ''
);
CREATE INDEX approvals_state ON approvals (state);
CREATE TABLE approval_systems (
    approval_id INTEGER NOT NULL REFERENCES approvals(id) ON DELETE CASCADE, system_id INTEGER NOT NULL REFERENCES systems(id) ON DELETE CASCADE,
    PRIMARY KEY (approval_id, system_id)
) WITHOUT ROWID;
CREATE INDEX approval_systems_system ON approval_systems (system_id);
-- Which value a rotation puts back is the one that was current when it began.
ALTER TABLE rotations ADD COLUMN old_secret INTEGER;

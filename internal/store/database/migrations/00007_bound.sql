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
-- A request is known by its key alone, with what it asked for.
DROP TABLE idempotency;
CREATE TABLE idempotency (
    user TEXT NOT NULL, key TEXT NOT NULL, request TEXT NOT NULL, answer INTEGER NOT NULL, created TEXT NOT NULL, PRIMARY KEY (user, key)
) WITHOUT ROWID;
-- Which value a rotation puts back is the one that was current when it began.
ALTER TABLE rotations ADD COLUMN old_secret INTEGER;
-- What a person decided about a copy that cannot be replaced, or may be none.
CREATE TABLE copy_decisions (
    system_id INTEGER NOT NULL REFERENCES systems(id) ON DELETE CASCADE, place TEXT NOT NULL, decision TEXT NOT NULL, reason TEXT NOT NULL, by TEXT NOT NULL, at TEXT NOT NULL,
    PRIMARY KEY (system_id, place)
) WITHOUT ROWID;
-- What vanished is marked as gone only by a reading with the same sight, and not
-- many at once without a person.
ALTER TABLE scopes ADD COLUMN sight TEXT NOT NULL DEFAULT '';
-- What was looked for is what was known when the reading began.
ALTER TABLE scopes ADD COLUMN begun TEXT NOT NULL DEFAULT '';
ALTER TABLE scopes ADD COLUMN held INTEGER NOT NULL DEFAULT 0;
ALTER TABLE scopes ADD COLUMN confirmed INTEGER NOT NULL DEFAULT 0;
-- When a finding was raised for the first time, however often it cleared.
ALTER TABLE findings ADD COLUMN first TEXT NOT NULL DEFAULT '';
UPDATE findings SET first = raised;
-- Systems that are reached with an account which is in custody itself: its
-- current value is what signs in there.
CREATE TABLE steward_links (
    system_id INTEGER PRIMARY KEY REFERENCES systems(id) ON DELETE CASCADE, logon TEXT NOT NULL, account_id INTEGER NOT NULL REFERENCES accounts(id) ON DELETE CASCADE, sealed BLOB NOT NULL
);
CREATE INDEX steward_links_account ON steward_links (account_id);

-- +goose Up
-- One credential: what is in custody and what is rotated has a row of its own,
-- whatever its kind. Key pairs keep their numbers, which their sealed values are
-- bound to.
CREATE TABLE credentials (
    id INTEGER PRIMARY KEY, kind TEXT NOT NULL, account_id INTEGER REFERENCES accounts(id), name TEXT NOT NULL,
    fingerprint TEXT NOT NULL DEFAULT '', type TEXT NOT NULL DEFAULT '', bits INTEGER NOT NULL DEFAULT 0,
    state TEXT NOT NULL DEFAULT 'seen', not_before TEXT NOT NULL DEFAULT '', not_after TEXT NOT NULL DEFAULT '', first_seen TEXT NOT NULL,
    taken TEXT NOT NULL DEFAULT '', taken_by TEXT NOT NULL DEFAULT '', verified TEXT NOT NULL DEFAULT '', verdict TEXT NOT NULL DEFAULT '',
    words TEXT NOT NULL DEFAULT '', rotated TEXT NOT NULL DEFAULT ''
);
INSERT INTO credentials (id, kind, name, fingerprint, type, bits, first_seen) SELECT id, 'ssh-key', name, fingerprint, type, bits, first_seen FROM key_pairs;
INSERT INTO credentials (kind, account_id, name, first_seen)
    SELECT 'password', a.id, a.name, a.first_seen FROM accounts a WHERE a.id IN (
        SELECT account_id FROM custody UNION SELECT account_id FROM secrets UNION SELECT account_id FROM rehearsals UNION SELECT account_id FROM rotations) ORDER BY a.id;
CREATE UNIQUE INDEX credentials_password ON credentials (account_id) WHERE kind = 'password';
CREATE INDEX credentials_account ON credentials (account_id);
CREATE UNIQUE INDEX credentials_public ON credentials (kind, fingerprint) WHERE fingerprint <> '';
CREATE INDEX credentials_custody ON credentials (state) WHERE state = 'custody';
UPDATE credentials SET state = 'custody', taken = c.taken, taken_by = c.taken_by, verified = c.verified, verdict = c.verdict, words = c.words, rotated = c.rotated
    FROM custody c WHERE c.key_id = credentials.id AND credentials.kind = 'ssh-key' OR c.account_id = credentials.account_id AND credentials.kind = 'password';
DROP TABLE custody;

CREATE TABLE kept_secrets AS SELECT s.*, COALESCE(s.key_id, (SELECT c.id FROM credentials c WHERE c.account_id = s.account_id AND c.kind = 'password')) AS credential_id FROM secrets s;
DROP TABLE secrets;
CREATE TABLE secrets (
    id INTEGER PRIMARY KEY, credential_id INTEGER NOT NULL REFERENCES credentials(id), rotation_id INTEGER, state TEXT NOT NULL,
    sealed BLOB NOT NULL, fingerprint TEXT NOT NULL, public TEXT NOT NULL DEFAULT '', created TEXT NOT NULL, ended TEXT NOT NULL DEFAULT ''
);
INSERT INTO secrets SELECT id, credential_id, rotation_id, state, sealed, fingerprint, public, created, ended FROM kept_secrets;
DROP TABLE kept_secrets;
CREATE INDEX secrets_credential ON secrets (credential_id, state);
CREATE INDEX secrets_fingerprint ON secrets (fingerprint);
CREATE INDEX secrets_public ON secrets (public) WHERE public <> '';

CREATE TABLE kept_rehearsals AS SELECT r.*, COALESCE(r.key_id, (SELECT c.id FROM credentials c WHERE c.account_id = r.account_id AND c.kind = 'password')) AS credential_id FROM rehearsals r;
DROP TABLE rehearsals;
CREATE TABLE rehearsals (
    id INTEGER PRIMARY KEY, credential_id INTEGER NOT NULL REFERENCES credentials(id), created TEXT NOT NULL, created_by TEXT NOT NULL,
    plan TEXT NOT NULL, checks TEXT NOT NULL, verdict TEXT NOT NULL
);
INSERT INTO rehearsals SELECT id, credential_id, created, created_by, plan, checks, verdict FROM kept_rehearsals;
DROP TABLE kept_rehearsals;
CREATE INDEX rehearsals_credential ON rehearsals (credential_id);

CREATE TABLE kept_journal AS SELECT * FROM journal;
DROP TABLE journal;
CREATE TABLE kept_rotations AS SELECT r.*, COALESCE(r.key_id, (SELECT c.id FROM credentials c WHERE c.account_id = r.account_id AND c.kind = 'password')) AS credential_id FROM rotations r;
DROP TABLE rotations;
DROP TABLE key_pairs;
CREATE TABLE rotations (
    id INTEGER PRIMARY KEY, credential_id INTEGER NOT NULL REFERENCES credentials(id), name TEXT NOT NULL, authority TEXT NOT NULL,
    plan TEXT NOT NULL, policy TEXT NOT NULL, mode TEXT NOT NULL, result TEXT NOT NULL DEFAULT '', requested_by TEXT NOT NULL,
    reason TEXT NOT NULL, override TEXT NOT NULL, rehearsal_id INTEGER, old_secret INTEGER, started TEXT NOT NULL, ended TEXT NOT NULL DEFAULT ''
);
INSERT INTO rotations SELECT id, credential_id, account, authority, plan, policy, mode, result, requested_by, reason, override, rehearsal_id, old_secret, started, ended FROM kept_rotations;
DROP TABLE kept_rotations;
CREATE UNIQUE INDEX rotations_one_at_a_time ON rotations (credential_id) WHERE mode <> 'finished';
CREATE INDEX rotations_credential ON rotations (credential_id);
CREATE TABLE journal (
    rotation_id INTEGER NOT NULL REFERENCES rotations(id), seq INTEGER NOT NULL, time TEXT NOT NULL, event TEXT NOT NULL, step INTEGER NOT NULL,
    undo INTEGER NOT NULL, result TEXT NOT NULL, memo TEXT NOT NULL, words TEXT NOT NULL, actor TEXT NOT NULL, reason TEXT NOT NULL,
    PRIMARY KEY (rotation_id, seq)
) WITHOUT ROWID;
INSERT INTO journal SELECT rotation_id, seq, time, event, step, undo, result, memo, words, actor, reason FROM kept_journal;
DROP TABLE kept_journal;

-- Plans name the credential.
UPDATE rotations SET plan = json_set(json_remove(plan, '$.account_id', '$.account', '$.key_id', '$.key_type', '$.authority_id'),
    '$.credential_id', CAST(credential_id AS TEXT), '$.credential', name, '$.credential_kind', (SELECT kind FROM credentials c WHERE c.id = credential_id),
    '$.type', COALESCE(json_extract(plan, '$.key_type'), ''), '$.kind', CASE WHEN json_extract(plan, '$.kind') = 'assign' THEN 'assign' ELSE 'rotate' END);
UPDATE rehearsals SET plan = json_set(json_remove(plan, '$.account_id', '$.account', '$.key_id', '$.key_type', '$.authority_id'),
    '$.credential_id', CAST(credential_id AS TEXT), '$.credential', COALESCE(json_extract(plan, '$.account'), ''), '$.credential_kind', (SELECT kind FROM credentials c WHERE c.id = credential_id),
    '$.type', COALESCE(json_extract(plan, '$.key_type'), ''), '$.kind', CASE WHEN json_extract(plan, '$.kind') = 'assign' THEN 'assign' ELSE 'rotate' END);

-- Findings may be about a credential. Their keys name it now, so those of before
-- are raised again under the new ones.
ALTER TABLE findings ADD COLUMN credential_id INTEGER NOT NULL DEFAULT 0;
UPDATE findings SET cleared = seen WHERE cleared = '' AND (key LIKE 'drift/%' OR key LIKE 'rotation/%' OR key LIKE 'left-behind/%');

-- The account by which a system is reached is its steward. A log-on is what a
-- dependent runs as.
ALTER TABLE logons RENAME TO stewards;
ALTER TABLE systems RENAME COLUMN logon TO steward;
ALTER TABLE steward_links RENAME COLUMN logon TO steward;

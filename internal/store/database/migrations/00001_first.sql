-- +goose Up
CREATE TABLE meta (key TEXT PRIMARY KEY, value BLOB NOT NULL);

CREATE TABLE logons (
    name TEXT PRIMARY KEY COLLATE NOCASE, account TEXT NOT NULL, password BLOB, private_key BLOB,
    created TEXT NOT NULL, changed TEXT NOT NULL
);

CREATE TABLE systems (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE, kind TEXT NOT NULL, address TEXT NOT NULL, port INTEGER NOT NULL,
    logon TEXT NOT NULL, site TEXT NOT NULL, environment TEXT NOT NULL, owner TEXT NOT NULL, options TEXT NOT NULL, trusted_ca TEXT NOT NULL,
    created TEXT NOT NULL, revision INTEGER NOT NULL DEFAULT 1,
    facts TEXT NOT NULL DEFAULT '{}', check_stages TEXT NOT NULL DEFAULT '[]', checked TEXT NOT NULL DEFAULT '',
    state TEXT NOT NULL DEFAULT 'new', state_words TEXT NOT NULL DEFAULT '', visited TEXT NOT NULL DEFAULT '', read_completely TEXT NOT NULL DEFAULT ''
);

CREATE TABLE host_keys (
    system_id INTEGER NOT NULL REFERENCES systems(id) ON DELETE CASCADE, fingerprint TEXT NOT NULL, approved_by TEXT NOT NULL, approved TEXT NOT NULL,
    PRIMARY KEY (system_id, fingerprint)
);

CREATE TABLE scopes (
    system_id INTEGER NOT NULL REFERENCES systems(id) ON DELETE CASCADE, scope TEXT NOT NULL, completed TEXT NOT NULL DEFAULT '', why TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (system_id, scope)
);

CREATE TABLE accounts (
    id INTEGER PRIMARY KEY, system_id INTEGER NOT NULL REFERENCES systems(id) ON DELETE CASCADE, stable_id TEXT NOT NULL,
    name TEXT NOT NULL, folded TEXT NOT NULL, dn TEXT NOT NULL, dn_normal TEXT NOT NULL, upn TEXT NOT NULL, sid TEXT NOT NULL, uid TEXT NOT NULL,
    type TEXT NOT NULL, display_name TEXT NOT NULL, description TEXT NOT NULL, owner TEXT NOT NULL, enabled TEXT NOT NULL, locked TEXT NOT NULL,
    must_change INTEGER NOT NULL, never_expires INTEGER NOT NULL, password_changed TEXT NOT NULL, password_expires TEXT NOT NULL,
    account_expires TEXT NOT NULL, last_logon TEXT NOT NULL, lists TEXT NOT NULL, digest BLOB NOT NULL,
    first_seen TEXT NOT NULL, seen TEXT NOT NULL, changed TEXT NOT NULL, gone TEXT NOT NULL DEFAULT '',
    UNIQUE (system_id, stable_id)
);
CREATE INDEX accounts_folded ON accounts (folded);
CREATE INDEX accounts_dn ON accounts (dn_normal) WHERE dn_normal <> '';
CREATE INDEX accounts_sid ON accounts (sid) WHERE sid <> '';
CREATE INDEX accounts_upn ON accounts (upn) WHERE upn <> '';
CREATE INDEX accounts_uid ON accounts (uid) WHERE uid <> '';

CREATE TABLE dependents (
    id INTEGER PRIMARY KEY, system_id INTEGER NOT NULL REFERENCES systems(id) ON DELETE CASCADE, kind TEXT NOT NULL, place TEXT NOT NULL,
    name TEXT NOT NULL, description TEXT NOT NULL, runs_as TEXT NOT NULL, state TEXT NOT NULL, start_mode TEXT NOT NULL, executable TEXT NOT NULL,
    schedule TEXT NOT NULL, path TEXT NOT NULL, uses TEXT NOT NULL, after TEXT NOT NULL, requires TEXT NOT NULL, copy TEXT NOT NULL, fingerprint TEXT NOT NULL,
    digest BLOB NOT NULL, first_seen TEXT NOT NULL, seen TEXT NOT NULL, changed TEXT NOT NULL, gone TEXT NOT NULL DEFAULT '',
    app_check TEXT NOT NULL DEFAULT '',
    UNIQUE (system_id, kind, place)
);
CREATE INDEX dependents_fingerprint ON dependents (fingerprint) WHERE fingerprint <> '';
CREATE INDEX dependents_path ON dependents (system_id, path);

CREATE TABLE ties (
    id INTEGER PRIMARY KEY, account_id INTEGER NOT NULL REFERENCES accounts(id) ON DELETE CASCADE,
    dependent_id INTEGER NOT NULL REFERENCES dependents(id) ON DELETE CASCADE,
    evidence TEXT NOT NULL, strength TEXT NOT NULL, detail TEXT NOT NULL, first_seen TEXT NOT NULL, seen TEXT NOT NULL,
    UNIQUE (account_id, dependent_id, evidence)
);
CREATE INDEX ties_dependent ON ties (dependent_id);

CREATE TABLE surveys (
    id INTEGER PRIMARY KEY, state TEXT NOT NULL, requested_by TEXT NOT NULL, started TEXT NOT NULL, ended TEXT NOT NULL DEFAULT '',
    total INTEGER NOT NULL
);
CREATE TABLE visits (
    id INTEGER PRIMARY KEY, survey_id INTEGER NOT NULL REFERENCES surveys(id) ON DELETE CASCADE, system_id INTEGER NOT NULL, system TEXT NOT NULL,
    state TEXT NOT NULL, stage TEXT NOT NULL DEFAULT '', words TEXT NOT NULL DEFAULT '', next TEXT NOT NULL DEFAULT '', stages TEXT NOT NULL DEFAULT '[]',
    counts TEXT NOT NULL DEFAULT '{}', why TEXT NOT NULL DEFAULT '{}', problems TEXT NOT NULL DEFAULT '[]',
    added INTEGER NOT NULL DEFAULT 0, altered INTEGER NOT NULL DEFAULT 0, vanished INTEGER NOT NULL DEFAULT 0,
    started TEXT NOT NULL DEFAULT '', ended TEXT NOT NULL DEFAULT '', step INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX visits_survey ON visits (survey_id, step);

CREATE TABLE secrets (
    id INTEGER PRIMARY KEY, account_id INTEGER NOT NULL REFERENCES accounts(id), rotation_id INTEGER, state TEXT NOT NULL,
    sealed BLOB NOT NULL, fingerprint TEXT NOT NULL, created TEXT NOT NULL, ended TEXT NOT NULL DEFAULT ''
);
CREATE INDEX secrets_account ON secrets (account_id, state);
CREATE INDEX secrets_fingerprint ON secrets (fingerprint);
CREATE TABLE custody (
    account_id INTEGER PRIMARY KEY REFERENCES accounts(id), taken TEXT NOT NULL, taken_by TEXT NOT NULL,
    verified TEXT NOT NULL DEFAULT '', verdict TEXT NOT NULL DEFAULT '', words TEXT NOT NULL DEFAULT '', rotated TEXT NOT NULL DEFAULT ''
);

CREATE TABLE rehearsals (
    id INTEGER PRIMARY KEY, account_id INTEGER NOT NULL REFERENCES accounts(id), created TEXT NOT NULL, created_by TEXT NOT NULL,
    plan TEXT NOT NULL, checks TEXT NOT NULL, verdict TEXT NOT NULL
);
CREATE TABLE rotations (
    id INTEGER PRIMARY KEY, account_id INTEGER NOT NULL REFERENCES accounts(id), account TEXT NOT NULL, authority TEXT NOT NULL,
    plan TEXT NOT NULL, policy TEXT NOT NULL, mode TEXT NOT NULL, result TEXT NOT NULL DEFAULT '', requested_by TEXT NOT NULL,
    reason TEXT NOT NULL, override TEXT NOT NULL, rehearsal_id INTEGER, started TEXT NOT NULL, ended TEXT NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX rotations_one_at_a_time ON rotations (account_id) WHERE mode <> 'finished';
CREATE TABLE journal (
    rotation_id INTEGER NOT NULL REFERENCES rotations(id), seq INTEGER NOT NULL, time TEXT NOT NULL, event TEXT NOT NULL, step INTEGER NOT NULL,
    undo INTEGER NOT NULL, result TEXT NOT NULL, memo TEXT NOT NULL, words TEXT NOT NULL, actor TEXT NOT NULL, reason TEXT NOT NULL,
    PRIMARY KEY (rotation_id, seq)
) WITHOUT ROWID;

CREATE TABLE findings (
    id INTEGER PRIMARY KEY, key TEXT NOT NULL UNIQUE, kind TEXT NOT NULL, severity TEXT NOT NULL, subject TEXT NOT NULL, system TEXT NOT NULL,
    account_id INTEGER, what TEXT NOT NULL, next TEXT NOT NULL, raised TEXT NOT NULL, seen TEXT NOT NULL, cleared TEXT NOT NULL DEFAULT ''
);

CREATE TABLE ledger (idx INTEGER PRIMARY KEY, leaf BLOB NOT NULL, hash BLOB NOT NULL);
CREATE TABLE ledger_hashes (idx INTEGER PRIMARY KEY, hash BLOB NOT NULL);
CREATE TABLE ledger_head (one INTEGER PRIMARY KEY CHECK (one = 1), size INTEGER NOT NULL, checkpoint TEXT NOT NULL);

CREATE TABLE users (
    name TEXT PRIMARY KEY COLLATE NOCASE, password TEXT NOT NULL, roles TEXT NOT NULL, created TEXT NOT NULL, disabled INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE sessions (hash BLOB PRIMARY KEY, user TEXT NOT NULL REFERENCES users(name) ON DELETE CASCADE, created TEXT NOT NULL, expires TEXT NOT NULL);
CREATE TABLE tokens (
    id INTEGER PRIMARY KEY, hash BLOB NOT NULL UNIQUE, user TEXT NOT NULL REFERENCES users(name) ON DELETE CASCADE, label TEXT NOT NULL,
    created TEXT NOT NULL, expires TEXT NOT NULL, used TEXT NOT NULL DEFAULT '', revoked TEXT NOT NULL DEFAULT ''
);
CREATE TABLE idempotency (
    key TEXT NOT NULL, user TEXT NOT NULL, act TEXT NOT NULL, answer INTEGER NOT NULL, created TEXT NOT NULL, PRIMARY KEY (key, user, act)
);

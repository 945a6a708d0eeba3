-- +goose Up
-- Key pairs, known by the fingerprint of their public half. What is in custody
-- and what is rotated is the password of an account or a key pair: one of
-- account_id and key_id is set.
CREATE TABLE key_pairs (
    id INTEGER PRIMARY KEY, fingerprint TEXT NOT NULL UNIQUE, type TEXT NOT NULL, bits INTEGER NOT NULL DEFAULT 0, name TEXT NOT NULL, first_seen TEXT NOT NULL
);

CREATE TABLE kept_secrets AS SELECT * FROM secrets;
DROP TABLE secrets;
CREATE TABLE secrets (
    id INTEGER PRIMARY KEY, account_id INTEGER REFERENCES accounts(id), key_id INTEGER REFERENCES key_pairs(id), rotation_id INTEGER, state TEXT NOT NULL,
    sealed BLOB NOT NULL, fingerprint TEXT NOT NULL, public TEXT NOT NULL DEFAULT '', created TEXT NOT NULL, ended TEXT NOT NULL DEFAULT '',
    CHECK ((account_id IS NULL) <> (key_id IS NULL))
);
INSERT INTO secrets (id, account_id, rotation_id, state, sealed, fingerprint, created, ended) SELECT id, account_id, rotation_id, state, sealed, fingerprint, created, ended FROM kept_secrets;
DROP TABLE kept_secrets;
CREATE INDEX secrets_account ON secrets (account_id, state);
CREATE INDEX secrets_key ON secrets (key_id, state);
CREATE INDEX secrets_fingerprint ON secrets (fingerprint);
CREATE INDEX secrets_public ON secrets (public) WHERE public <> '';

CREATE TABLE kept_custody AS SELECT * FROM custody;
DROP TABLE custody;
CREATE TABLE custody (
    id INTEGER PRIMARY KEY, account_id INTEGER UNIQUE REFERENCES accounts(id), key_id INTEGER UNIQUE REFERENCES key_pairs(id), taken TEXT NOT NULL, taken_by TEXT NOT NULL,
    verified TEXT NOT NULL DEFAULT '', verdict TEXT NOT NULL DEFAULT '', words TEXT NOT NULL DEFAULT '', rotated TEXT NOT NULL DEFAULT '',
    CHECK ((account_id IS NULL) <> (key_id IS NULL))
);
INSERT INTO custody (account_id, taken, taken_by, verified, verdict, words, rotated) SELECT account_id, taken, taken_by, verified, verdict, words, rotated FROM kept_custody;
DROP TABLE kept_custody;

CREATE TABLE kept_rehearsals AS SELECT * FROM rehearsals;
DROP TABLE rehearsals;
CREATE TABLE rehearsals (
    id INTEGER PRIMARY KEY, account_id INTEGER REFERENCES accounts(id), key_id INTEGER REFERENCES key_pairs(id), created TEXT NOT NULL, created_by TEXT NOT NULL,
    plan TEXT NOT NULL, checks TEXT NOT NULL, verdict TEXT NOT NULL
);
INSERT INTO rehearsals (id, account_id, created, created_by, plan, checks, verdict) SELECT id, account_id, created, created_by, plan, checks, verdict FROM kept_rehearsals;
DROP TABLE kept_rehearsals;
CREATE INDEX rehearsals_account ON rehearsals (account_id);
CREATE INDEX rehearsals_key ON rehearsals (key_id);

CREATE TABLE kept_journal AS SELECT * FROM journal;
DROP TABLE journal;
CREATE TABLE kept_rotations AS SELECT * FROM rotations;
DROP TABLE rotations;
CREATE TABLE rotations (
    id INTEGER PRIMARY KEY, account_id INTEGER REFERENCES accounts(id), key_id INTEGER REFERENCES key_pairs(id), account TEXT NOT NULL, authority TEXT NOT NULL,
    plan TEXT NOT NULL, policy TEXT NOT NULL, mode TEXT NOT NULL, result TEXT NOT NULL DEFAULT '', requested_by TEXT NOT NULL,
    reason TEXT NOT NULL, override TEXT NOT NULL, rehearsal_id INTEGER, started TEXT NOT NULL, ended TEXT NOT NULL DEFAULT ''
);
INSERT INTO rotations (id, account_id, account, authority, plan, policy, mode, result, requested_by, reason, override, rehearsal_id, started, ended)
    SELECT id, account_id, account, authority, plan, policy, mode, result, requested_by, reason, override, rehearsal_id, started, ended FROM kept_rotations;
DROP TABLE kept_rotations;
CREATE UNIQUE INDEX rotations_one_at_a_time ON rotations (account_id) WHERE mode <> 'finished' AND account_id IS NOT NULL;
CREATE UNIQUE INDEX rotations_one_of_a_key ON rotations (key_id) WHERE mode <> 'finished' AND key_id IS NOT NULL;
CREATE INDEX rotations_account ON rotations (account_id);
CREATE TABLE journal (
    rotation_id INTEGER NOT NULL REFERENCES rotations(id), seq INTEGER NOT NULL, time TEXT NOT NULL, event TEXT NOT NULL, step INTEGER NOT NULL,
    undo INTEGER NOT NULL, result TEXT NOT NULL, memo TEXT NOT NULL, words TEXT NOT NULL, actor TEXT NOT NULL, reason TEXT NOT NULL,
    PRIMARY KEY (rotation_id, seq)
) WITHOUT ROWID;
INSERT INTO journal SELECT rotation_id, seq, time, event, step, undo, result, memo, words, actor, reason FROM kept_journal;
DROP TABLE kept_journal;

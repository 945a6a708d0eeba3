-- +goose Up
-- Who is signed in to data stores now, which sockets hosts have now, which
-- log-ons systems recorded, and what people say of use that nothing shows.
CREATE TABLE sessions_seen (
    system_id INTEGER NOT NULL REFERENCES systems(id) ON DELETE CASCADE, stable_id TEXT NOT NULL, account TEXT NOT NULL, client TEXT NOT NULL, port INTEGER NOT NULL,
    application TEXT NOT NULL, database TEXT NOT NULL, since TEXT NOT NULL, seen TEXT NOT NULL
);
CREATE INDEX sessions_seen_system ON sessions_seen (system_id);
CREATE TABLE sockets (
    system_id INTEGER NOT NULL REFERENCES systems(id) ON DELETE CASCADE, listens INTEGER NOT NULL, local TEXT NOT NULL, local_port INTEGER NOT NULL, peer TEXT NOT NULL, peer_port INTEGER NOT NULL,
    uid TEXT NOT NULL, unit TEXT NOT NULL, program TEXT NOT NULL, seen TEXT NOT NULL
);
CREATE INDEX sockets_system ON sockets (system_id);
CREATE INDEX sockets_local ON sockets (local_port, local);
CREATE INDEX sockets_peer ON sockets (peer_port, peer) WHERE peer_port <> 0;
CREATE TABLE uses (
    id INTEGER PRIMARY KEY, system_id INTEGER NOT NULL REFERENCES systems(id) ON DELETE CASCADE, account_id INTEGER NOT NULL DEFAULT 0, account TEXT NOT NULL, client TEXT NOT NULL,
    how TEXT NOT NULL, key TEXT NOT NULL, failed INTEGER NOT NULL, first TEXT NOT NULL, last TEXT NOT NULL, count INTEGER NOT NULL,
    UNIQUE (system_id, account, client, how, key, failed)
);
CREATE INDEX uses_account ON uses (account_id) WHERE account_id <> 0;
CREATE TABLE declarations (
    id INTEGER PRIMARY KEY, account_id INTEGER NOT NULL REFERENCES accounts(id) ON DELETE CASCADE, dependent_id INTEGER NOT NULL REFERENCES dependents(id) ON DELETE CASCADE,
    reason TEXT NOT NULL, until TEXT NOT NULL, said_by TEXT NOT NULL, said TEXT NOT NULL, withdrawn TEXT NOT NULL DEFAULT '', withdrawn_by TEXT NOT NULL DEFAULT ''
);
CREATE INDEX declarations_account ON declarations (account_id);
CREATE INDEX ties_evidence ON ties (evidence, seen);
CREATE INDEX systems_address ON systems (address);

-- Keys, entries that authorise them, key tabs and certificates.
ALTER TABLE dependents ADD COLUMN key TEXT NOT NULL DEFAULT 'null';
CREATE INDEX dependents_key ON dependents (json_extract(key, '$.fingerprint')) WHERE kind IN ('key', 'authorized key');

-- Which programs read a file, and which need another one: kept beside the lists
-- in their rows, because every walk and every list of files asks the other way.
CREATE TABLE readers (system_id INTEGER NOT NULL, path TEXT NOT NULL, dependent_id INTEGER NOT NULL, PRIMARY KEY (system_id, path, dependent_id)) WITHOUT ROWID;
CREATE INDEX readers_dependent ON readers (dependent_id);
CREATE TABLE needers (system_id INTEGER NOT NULL, kind TEXT NOT NULL, name TEXT NOT NULL, dependent_id INTEGER NOT NULL, PRIMARY KEY (system_id, kind, name, dependent_id)) WITHOUT ROWID;
CREATE INDEX needers_dependent ON needers (dependent_id);
CREATE INDEX accounts_name ON accounts (name COLLATE NOCASE);
CREATE INDEX dependents_system ON dependents (system_id);
INSERT OR IGNORE INTO readers SELECT d.system_id, j.value, d.id FROM dependents d, json_each(d.uses) j WHERE d.uses <> 'null' AND j.value IS NOT NULL;
INSERT OR IGNORE INTO needers SELECT d.system_id, d.kind, j.value, d.id FROM dependents d, json_each(d.requires) j WHERE d.requires <> 'null' AND j.value IS NOT NULL;
-- +goose StatementBegin
CREATE TRIGGER dependents_lists_insert AFTER INSERT ON dependents WHEN new.uses <> 'null' OR new.requires <> 'null' BEGIN
    INSERT OR IGNORE INTO readers SELECT new.system_id, value, new.id FROM json_each(new.uses) WHERE value IS NOT NULL;
    INSERT OR IGNORE INTO needers SELECT new.system_id, new.kind, value, new.id FROM json_each(new.requires) WHERE value IS NOT NULL;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER dependents_lists_update AFTER UPDATE OF uses, requires ON dependents WHEN new.uses <> old.uses OR new.requires <> old.requires BEGIN
    DELETE FROM readers WHERE dependent_id = new.id;
    DELETE FROM needers WHERE dependent_id = new.id;
    INSERT OR IGNORE INTO readers SELECT new.system_id, value, new.id FROM json_each(new.uses) WHERE value IS NOT NULL;
    INSERT OR IGNORE INTO needers SELECT new.system_id, new.kind, value, new.id FROM json_each(new.requires) WHERE value IS NOT NULL;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER dependents_lists_delete AFTER DELETE ON dependents BEGIN
    DELETE FROM readers WHERE dependent_id = old.id;
    DELETE FROM needers WHERE dependent_id = old.id;
END;
-- +goose StatementEnd

-- One search over accounts, dependents and systems. The words are kept without
-- the text: what is found is read where it stands.
CREATE VIRTUAL TABLE found_accounts USING fts5(text, content='', contentless_delete=1, detail=none, tokenize="unicode61 remove_diacritics 2", prefix='2 3 4 5 6');
CREATE VIRTUAL TABLE found_dependents USING fts5(text, content='', contentless_delete=1, detail=none, tokenize="unicode61 remove_diacritics 2", prefix='2 3 4 5 6');
CREATE VIRTUAL TABLE found_systems USING fts5(text, content='', contentless_delete=1, detail=none, tokenize="unicode61 remove_diacritics 2", prefix='2 3 4 5 6');
INSERT INTO found_accounts (rowid, text) SELECT id, name || ' ' || dn || ' ' || upn || ' ' || display_name || ' ' || description || ' ' || owner FROM accounts WHERE gone = '';
INSERT INTO found_dependents (rowid, text) SELECT id, name || ' ' || place || ' ' || description || ' ' || runs_as || ' ' || executable FROM dependents WHERE gone = '';
INSERT INTO found_systems (rowid, text) SELECT id, name || ' ' || address || ' ' || site || ' ' || environment || ' ' || owner FROM systems;
-- +goose StatementBegin
CREATE TRIGGER accounts_found_insert AFTER INSERT ON accounts WHEN new.gone = '' BEGIN
    INSERT INTO found_accounts (rowid, text) VALUES (new.id, new.name || ' ' || new.dn || ' ' || new.upn || ' ' || new.display_name || ' ' || new.description || ' ' || new.owner);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER accounts_found_update AFTER UPDATE OF name, dn, upn, display_name, description, owner, gone ON accounts
    WHEN (new.name, new.dn, new.upn, new.display_name, new.description, new.owner, new.gone <> '') IS NOT (old.name, old.dn, old.upn, old.display_name, old.description, old.owner, old.gone <> '') BEGIN
    DELETE FROM found_accounts WHERE rowid = old.id;
    INSERT INTO found_accounts (rowid, text) SELECT new.id, new.name || ' ' || new.dn || ' ' || new.upn || ' ' || new.display_name || ' ' || new.description || ' ' || new.owner WHERE new.gone = '';
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER accounts_found_delete AFTER DELETE ON accounts BEGIN
    DELETE FROM found_accounts WHERE rowid = old.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER dependents_found_insert AFTER INSERT ON dependents WHEN new.gone = '' BEGIN
    INSERT INTO found_dependents (rowid, text) VALUES (new.id, new.name || ' ' || new.place || ' ' || new.description || ' ' || new.runs_as || ' ' || new.executable);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER dependents_found_update AFTER UPDATE OF name, place, description, runs_as, executable, gone ON dependents
    WHEN (new.name, new.place, new.description, new.runs_as, new.executable, new.gone <> '') IS NOT (old.name, old.place, old.description, old.runs_as, old.executable, old.gone <> '') BEGIN
    DELETE FROM found_dependents WHERE rowid = old.id;
    INSERT INTO found_dependents (rowid, text) SELECT new.id, new.name || ' ' || new.place || ' ' || new.description || ' ' || new.runs_as || ' ' || new.executable WHERE new.gone = '';
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER dependents_found_delete AFTER DELETE ON dependents BEGIN
    DELETE FROM found_dependents WHERE rowid = old.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER systems_found_insert AFTER INSERT ON systems BEGIN
    INSERT INTO found_systems (rowid, text) VALUES (new.id, new.name || ' ' || new.address || ' ' || new.site || ' ' || new.environment || ' ' || new.owner);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER systems_found_update AFTER UPDATE OF name, address, site, environment, owner ON systems BEGIN
    DELETE FROM found_systems WHERE rowid = old.id;
    INSERT INTO found_systems (rowid, text) VALUES (new.id, new.name || ' ' || new.address || ' ' || new.site || ' ' || new.environment || ' ' || new.owner);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER systems_found_delete AFTER DELETE ON systems BEGIN
    DELETE FROM found_systems WHERE rowid = old.id;
END;
-- +goose StatementEnd

-- +goose Up
-- Search indexes are fed in bulk, by the transaction that took the rows in: fed
-- by triggers they were written out and merged at every statement. The triggers
-- only note which rows changed; known are those that the indexes may have.
DROP TRIGGER accounts_found_insert;
DROP TRIGGER accounts_found_update;
DROP TRIGGER accounts_found_delete;
DROP TRIGGER dependents_found_insert;
DROP TRIGGER dependents_found_update;
DROP TRIGGER dependents_found_delete;
DROP TRIGGER dependents_parts_insert;
DROP TRIGGER dependents_parts_update;
DROP TRIGGER dependents_parts_delete;
CREATE TABLE unindexed_accounts (id INTEGER PRIMARY KEY, known INTEGER NOT NULL);
CREATE TABLE unindexed_dependents (id INTEGER PRIMARY KEY, known INTEGER NOT NULL);
-- +goose StatementBegin
CREATE TRIGGER accounts_unindexed_insert AFTER INSERT ON accounts BEGIN
    INSERT INTO unindexed_accounts (id, known) VALUES (new.id, 0) ON CONFLICT (id) DO NOTHING;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER accounts_unindexed_update AFTER UPDATE OF name, dn, upn, display_name, description, owner, gone ON accounts
    WHEN (new.name, new.dn, new.upn, new.display_name, new.description, new.owner, new.gone <> '') IS NOT (old.name, old.dn, old.upn, old.display_name, old.description, old.owner, old.gone <> '') BEGIN
    INSERT INTO unindexed_accounts (id, known) VALUES (new.id, 1) ON CONFLICT (id) DO UPDATE SET known = 1;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER accounts_unindexed_delete AFTER DELETE ON accounts BEGIN
    INSERT INTO unindexed_accounts (id, known) VALUES (old.id, 1) ON CONFLICT (id) DO UPDATE SET known = 1;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER dependents_unindexed_insert AFTER INSERT ON dependents BEGIN
    INSERT INTO unindexed_dependents (id, known) VALUES (new.id, 0) ON CONFLICT (id) DO NOTHING;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER dependents_unindexed_update AFTER UPDATE OF name, place, description, runs_as, executable, gone ON dependents
    WHEN (new.name, new.place, new.description, new.runs_as, new.executable, new.gone <> '') IS NOT (old.name, old.place, old.description, old.runs_as, old.executable, old.gone <> '') BEGIN
    INSERT INTO unindexed_dependents (id, known) VALUES (new.id, 1) ON CONFLICT (id) DO UPDATE SET known = 1;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER dependents_unindexed_delete AFTER DELETE ON dependents BEGIN
    INSERT INTO unindexed_dependents (id, known) VALUES (old.id, 1) ON CONFLICT (id) DO UPDATE SET known = 1;
END;
-- +goose StatementEnd
-- Segments are merged when a survey has ended, not while it takes rows in.
INSERT INTO found_accounts (found_accounts, rank) VALUES ('automerge', 0);
INSERT INTO found_accounts (found_accounts, rank) VALUES ('hashsize', 16777216);
INSERT INTO found_dependents (found_dependents, rank) VALUES ('automerge', 0);
INSERT INTO found_dependents (found_dependents, rank) VALUES ('hashsize', 16777216);
INSERT INTO parts_dependents (parts_dependents, rank) VALUES ('automerge', 0);
INSERT INTO parts_dependents (parts_dependents, rank) VALUES ('hashsize', 16777216);
INSERT INTO found_accounts (found_accounts, rank) VALUES ('usermerge', 2);
INSERT INTO found_dependents (found_dependents, rank) VALUES ('usermerge', 2);
INSERT INTO parts_dependents (parts_dependents, rank) VALUES ('usermerge', 2);

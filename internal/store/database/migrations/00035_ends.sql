-- +goose Up
-- What ends, and when: passwords, accounts, roles, keys, certificates, one row each, so that
-- all kinds are listed, counted and sorted alike. It follows from accounts and dependents: the
-- two rows of an account have twice its number and one more, that of a dependent its number
-- below zero, so that no index is needed to find them. That an account itself never ends is
-- so of nearly all: such rows are not written but told from accounts.
ALTER TABLE accounts ADD COLUMN ends_unknown TEXT NOT NULL DEFAULT '';
CREATE TABLE ends (
    id INTEGER PRIMARY KEY, what TEXT NOT NULL, system_id INTEGER NOT NULL, account_id INTEGER, dependent_id INTEGER,
    state TEXT NOT NULL, ordered TEXT NOT NULL COLLATE NOCASE, why TEXT NOT NULL, live INTEGER NOT NULL,
    may_end INTEGER NOT NULL -- of a password: its account may end by itself
);
CREATE INDEX ends_ordered ON ends (ordered);
-- How many end on each day; of those without one, how many are in which state. Those of
-- accounts are counted by who writes them, many at once.
CREATE TABLE ends_days (
    day TEXT NOT NULL, what TEXT NOT NULL, live INTEGER NOT NULL, may_end INTEGER NOT NULL, n INTEGER NOT NULL, PRIMARY KEY (day, what, live, may_end)
) WITHOUT ROWID;
-- +goose StatementBegin
CREATE TRIGGER ends_counted AFTER INSERT ON ends WHEN new.id < 0 BEGIN
    INSERT INTO ends_days (day, what, live, may_end, n) VALUES (CASE new.state WHEN 'ends' THEN substr(new.ordered, 1, 10) ELSE new.state END, new.what, new.live, 0, 1)
        ON CONFLICT DO UPDATE SET n = n + 1;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER ends_uncounted AFTER DELETE ON ends BEGIN
    UPDATE ends_days SET n = n - 1 WHERE day = CASE old.state WHEN 'ends' THEN substr(old.ordered, 1, 10) ELSE old.state END AND what = old.what AND live = old.live AND may_end = old.may_end;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER accounts_without_ends AFTER UPDATE OF gone ON accounts WHEN new.gone <> '' AND old.gone = '' BEGIN
    DELETE FROM ends WHERE id IN (new.id * 2, new.id * 2 + 1);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER accounts_ends_delete AFTER DELETE ON accounts BEGIN
    DELETE FROM ends WHERE id IN (old.id * 2, old.id * 2 + 1);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER dependents_ends_insert AFTER INSERT ON dependents WHEN new.kind IN ('authorized key', 'certificate', 'cloud key', 'issued key') BEGIN
    INSERT INTO ends (id, what, system_id, dependent_id, state, ordered, why, live, may_end) SELECT -id, what, system_id, id, state, ordered, why, 1, 0 FROM dependent_ends WHERE id = new.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER dependents_ends_update AFTER UPDATE OF key, gone ON dependents WHEN new.kind IN ('authorized key', 'certificate', 'cloud key', 'issued key') BEGIN
    DELETE FROM ends WHERE id = -new.id;
    INSERT INTO ends (id, what, system_id, dependent_id, state, ordered, why, live, may_end) SELECT -id, what, system_id, id, state, ordered, why, 1, 0 FROM dependent_ends WHERE id = new.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER dependents_ends_delete AFTER DELETE ON dependents WHEN old.kind IN ('authorized key', 'certificate', 'cloud key', 'issued key') BEGIN
    DELETE FROM ends WHERE id = -old.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER dependents_ends_issued AFTER INSERT ON ends WHEN new.id < 0 AND new.what = 'key' AND (SELECT kind FROM dependents WHERE id = -new.id) = 'issued key' BEGIN
    DELETE FROM ends WHERE id IN (SELECT -f.id FROM dependents f WHERE f.kind = 'cloud key' AND json_extract(f.key, '$.key_id') = (SELECT json_extract(key, '$.key_id') FROM dependents WHERE id = -new.id));
END;
-- +goose StatementEnd
CREATE INDEX dependents_key_id ON dependents (kind, json_extract(key, '$.key_id')) WHERE kind IN ('issued key', 'cloud key');
CREATE VIEW dependent_ends AS
    SELECT id, system_id, what, state, CASE state WHEN 'ends' THEN moment WHEN 'ended' THEN '' WHEN 'unknown' THEN '~1' ELSE '~2' END AS ordered,
        CASE WHEN state = 'ended' THEN ended WHEN state = 'unknown' AND kind = 'cloud key' THEN 'its issuer is not read' WHEN state = 'unknown' THEN 'it does not say' ELSE '' END AS why
    FROM (SELECT id, system_id, kind, what, ended, moment,
            CASE WHEN ended <> '' THEN 'ended' WHEN moment >= '2200' THEN 'never' WHEN moment <> '' THEN 'ends' WHEN kind IN ('authorized key', 'issued key') THEN 'never' ELSE 'unknown' END AS state
        FROM (SELECT id, system_id, kind, CASE kind WHEN 'certificate' THEN 'certificate' ELSE 'key' END AS what, COALESCE(json_extract(key, '$.ended'), '') AS ended,
                COALESCE(substr(json_extract(key, '$.ends'), 1, 19) || '.000Z', '') AS moment
            FROM dependents d WHERE kind IN ('authorized key', 'certificate', 'cloud key', 'issued key') AND gone = '' AND key <> 'null'
                -- What a file of a key says, its issuer says better, where that is read.
                AND NOT (kind = 'cloud key' AND EXISTS (SELECT 1 FROM dependents i WHERE i.kind = 'issued key' AND i.gone = '' AND json_extract(i.key, '$.key_id') = json_extract(d.key, '$.key_id')))));
CREATE VIEW account_ends AS
    SELECT account_id, id, system_id, what, state, CASE state WHEN 'ends' THEN moment WHEN 'ended' THEN '' WHEN 'unknown' THEN '~1' ELSE '~2' END AS ordered,
        CASE state WHEN 'ended' THEN 'it must be changed' WHEN 'unknown' THEN why ELSE '' END AS why, live, may_end
    FROM (
        SELECT a.id AS account_id, a.id * 2 AS id, a.system_id, CASE s.kind WHEN 'postgresql' THEN 'role' ELSE 'password' END AS what, a.password_expires AS moment,
            CASE WHEN a.must_change THEN 'ended' WHEN a.never_expires OR a.password_expires >= '2200' THEN 'never' WHEN a.password_expires = '' THEN 'unknown' ELSE 'ends' END AS state,
            CASE WHEN a.ends_unknown <> '' THEN a.ends_unknown WHEN s.kind = 'directory' THEN 'no password policy that can be read says it' ELSE 'its system does not say' END AS why,
            a.enabled <> 'no' AND a.type NOT IN ('computer', 'system') AS live, s.kind NOT IN ('postgresql', 'mariadb', 'redis') AS may_end
        FROM accounts a JOIN systems s ON s.id = a.system_id WHERE a.gone = '' AND a.type <> 'service identity'
        UNION ALL
        SELECT a.id, a.id * 2 + 1, a.system_id, 'account', '', 'never', '', a.enabled <> 'no', 0 FROM accounts a WHERE a.gone = '' AND a.type = 'service identity'
        UNION ALL
        SELECT a.id, a.id * 2 + 1, a.system_id, 'account', a.account_expires,
            CASE WHEN a.account_expires <> '' THEN 'ends' ELSE 'unknown' END, a.ends_unknown, a.enabled <> 'no' AND a.type NOT IN ('computer', 'system'), 0
        FROM accounts a JOIN systems s ON s.id = a.system_id
        WHERE a.gone = '' AND (a.account_expires <> '' OR a.ends_unknown <> '') AND a.account_expires < '2200' AND a.type <> 'service identity' AND s.kind NOT IN ('postgresql', 'mariadb', 'redis')
    );
INSERT INTO ends (id, what, system_id, account_id, state, ordered, why, live, may_end) SELECT id, what, system_id, account_id, state, ordered, why, live, may_end FROM account_ends;
INSERT INTO ends_days (day, what, live, may_end, n) SELECT CASE state WHEN 'ends' THEN substr(ordered, 1, 10) ELSE state END, what, live, may_end, COUNT(*) FROM ends GROUP BY 1, 2, 3, 4;
INSERT INTO ends (id, what, system_id, dependent_id, state, ordered, why, live, may_end) SELECT -id, what, system_id, id, state, ordered, why, 1, 0 FROM dependent_ends;

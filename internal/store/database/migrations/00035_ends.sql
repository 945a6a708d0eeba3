-- +goose Up
-- What ends, and when: passwords, accounts, roles, keys, certificates, one row each, so that
-- all kinds are listed, counted and sorted alike. It follows from accounts and dependents.
ALTER TABLE accounts ADD COLUMN ends_unknown TEXT NOT NULL DEFAULT '';
CREATE TABLE ends (
    id INTEGER PRIMARY KEY, what TEXT NOT NULL, system_id INTEGER NOT NULL,
    account_id INTEGER REFERENCES accounts (id) ON DELETE CASCADE, dependent_id INTEGER REFERENCES dependents (id) ON DELETE CASCADE,
    state TEXT NOT NULL, at TEXT NOT NULL, ordered TEXT NOT NULL, why TEXT NOT NULL, live INTEGER NOT NULL
);
CREATE UNIQUE INDEX ends_account ON ends (account_id, what) WHERE account_id IS NOT NULL;
CREATE UNIQUE INDEX ends_dependent ON ends (dependent_id) WHERE dependent_id IS NOT NULL;
CREATE INDEX ends_ordered ON ends (ordered, id);
-- How many end on each day; of those without one, how many are in which state.
CREATE TABLE ends_days (
    day TEXT NOT NULL, what TEXT NOT NULL, live INTEGER NOT NULL, n INTEGER NOT NULL, PRIMARY KEY (day, what, live)
) WITHOUT ROWID;
-- +goose StatementBegin
CREATE TRIGGER ends_counted AFTER INSERT ON ends BEGIN
    INSERT INTO ends_days (day, what, live, n) VALUES (CASE new.state WHEN 'ends' THEN substr(new.at, 1, 10) ELSE new.state END, new.what, new.live, 1)
        ON CONFLICT DO UPDATE SET n = n + 1;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER ends_uncounted AFTER DELETE ON ends BEGIN
    UPDATE ends_days SET n = n - 1 WHERE day = CASE old.state WHEN 'ends' THEN substr(old.at, 1, 10) ELSE old.state END AND what = old.what AND live = old.live;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER accounts_without_ends AFTER UPDATE OF gone ON accounts WHEN new.gone <> '' AND old.gone = '' BEGIN
    DELETE FROM ends WHERE account_id = new.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER dependents_ends_insert AFTER INSERT ON dependents WHEN new.kind IN ('authorized key', 'certificate', 'cloud key') BEGIN
    INSERT INTO ends (what, system_id, dependent_id, state, at, ordered, why, live)
        SELECT what, new.system_id, new.id, state, at, CASE state WHEN 'ends' THEN at WHEN 'ended' THEN '' WHEN 'unknown' THEN '~1' ELSE '~2' END, why, 1 FROM dependent_ends WHERE id = new.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER dependents_ends_update AFTER UPDATE OF key, gone ON dependents WHEN new.kind IN ('authorized key', 'certificate', 'cloud key') BEGIN
    DELETE FROM ends WHERE dependent_id = new.id;
    INSERT INTO ends (what, system_id, dependent_id, state, at, ordered, why, live)
        SELECT what, new.system_id, new.id, state, at, CASE state WHEN 'ends' THEN at WHEN 'ended' THEN '' WHEN 'unknown' THEN '~1' ELSE '~2' END, why, 1 FROM dependent_ends WHERE id = new.id;
END;
-- +goose StatementEnd
CREATE VIEW dependent_ends AS
    SELECT id, what, CASE WHEN ended <> '' THEN 'ended' WHEN moment >= '2200' THEN 'never' WHEN moment <> '' THEN 'ends' WHEN kind = 'authorized key' THEN 'never' ELSE 'unknown' END AS state,
        CASE WHEN ended = '' AND moment <> '' AND moment < '2200' THEN moment ELSE '' END AS at,
        CASE WHEN ended <> '' THEN ended WHEN moment = '' AND kind = 'cloud key' THEN 'its issuer is not read' WHEN moment = '' AND kind = 'certificate' THEN 'it does not say' ELSE '' END AS why
    FROM (SELECT id, kind, CASE kind WHEN 'certificate' THEN 'certificate' ELSE 'key' END AS what, COALESCE(json_extract(key, '$.ended'), '') AS ended,
            COALESCE(substr(json_extract(key, '$.ends'), 1, 19) || '.000Z', '') AS moment
        FROM dependents WHERE kind IN ('authorized key', 'certificate', 'cloud key') AND gone = '' AND key <> 'null');
CREATE VIEW account_ends AS
    SELECT account_id, system_id, what, state, CASE state WHEN 'ends' THEN moment ELSE '' END AS at,
        CASE state WHEN 'ends' THEN moment WHEN 'ended' THEN '' WHEN 'unknown' THEN '~1' ELSE '~2' END AS ordered,
        CASE state WHEN 'ended' THEN 'it must be changed' WHEN 'unknown' THEN why ELSE '' END AS why, live
    FROM (
        SELECT a.id AS account_id, a.system_id, CASE s.kind WHEN 'postgresql' THEN 'role' ELSE 'password' END AS what, a.password_expires AS moment,
            CASE WHEN a.must_change THEN 'ended' WHEN a.never_expires OR a.password_expires >= '2200' THEN 'never' WHEN a.password_expires = '' THEN 'unknown' ELSE 'ends' END AS state,
            CASE WHEN a.ends_unknown <> '' THEN a.ends_unknown WHEN s.kind = 'directory' THEN 'no password policy that can be read says it' ELSE 'its system does not say' END AS why, a.enabled <> 'no' AND a.type NOT IN ('computer', 'system') AS live
        FROM accounts a JOIN systems s ON s.id = a.system_id WHERE a.gone = ''
        UNION ALL
        SELECT a.id, a.system_id, 'account', a.account_expires,
            CASE WHEN a.account_expires >= '2200' THEN 'never' WHEN a.account_expires <> '' THEN 'ends' WHEN a.ends_unknown <> '' THEN 'unknown' ELSE 'never' END,
            a.ends_unknown, a.enabled <> 'no' AND a.type NOT IN ('computer', 'system')
        FROM accounts a JOIN systems s ON s.id = a.system_id WHERE a.gone = '' AND s.kind NOT IN ('postgresql', 'mariadb', 'redis')
    );
INSERT INTO ends (what, system_id, account_id, state, at, ordered, why, live) SELECT what, system_id, account_id, state, at, ordered, why, live FROM account_ends;
INSERT INTO ends (what, system_id, dependent_id, state, at, ordered, why, live)
    SELECT v.what, d.system_id, v.id, v.state, v.at, CASE v.state WHEN 'ends' THEN v.at WHEN 'ended' THEN '' WHEN 'unknown' THEN '~1' ELSE '~2' END, v.why, 1 FROM dependent_ends v JOIN dependents d ON d.id = v.id;

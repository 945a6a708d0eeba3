-- +goose Up
-- What is given for a while ends too: memberships, and rights whose own entry says until when.
-- Their rows of the list of ends come behind those of accounts: entries of rights from 2^50 on
-- by their number, memberships from 2^51 on, by that of the member and their place among its
-- own: numbers that every reader of JSON has exactly.
ALTER TABLE ends ADD COLUMN name TEXT NOT NULL DEFAULT '';
ALTER TABLE ends ADD COLUMN place TEXT NOT NULL DEFAULT '';
-- +goose StatementBegin
CREATE TRIGGER ends_counted_given AFTER INSERT ON ends WHEN new.id >= 1125899906842624 BEGIN
    INSERT INTO ends_days (day, what, live, may_end, n) VALUES (substr(new.ordered, 1, 10), new.what, new.live, 0, 1)
        ON CONFLICT DO UPDATE SET n = n + 1;
END;
-- +goose StatementEnd
CREATE VIEW right_ends AS
    SELECT 1125899906842624 + e.id AS id, e.id AS entry_id, l.system_id, a.id AS account_id, substr(json_extract(e.entry, '$.until'), 1, 19) || '.000Z' AS ordered,
        COALESCE(p.name, a.name, e.given_to) AS name, CASE WHEN e.what <> '' THEN e.verb || ' ' || e.what ELSE e.verb || ' ' || l.shown END AS place
    FROM right_entries e JOIN right_lists l ON l.id = e.list_id
        LEFT JOIN right_principals p ON p.system_id = l.system_id AND p.key = e.given_to LEFT JOIN accounts a ON a.system_id = l.system_id AND a.stable_id = e.given_to
    WHERE e.taken = '' AND NOT e.deny AND json_extract(e.entry, '$.until') IS NOT NULL;
CREATE VIEW membership_ends AS
    SELECT 2251799813685248 + p.id * 4096 + j.key AS id, p.id AS principal_id, p.system_id, a.id AS account_id, substr(json_extract(j.value, '$.u'), 1, 19) || '.000Z' AS ordered, p.name,
        json_extract(j.value, '$.g') AS place -- which may be read after its members: what it is called is looked up
    FROM right_principals p JOIN json_each(p.lies_in) j LEFT JOIN accounts a ON a.system_id = p.system_id AND a.stable_id = p.key
    WHERE p.lies_in <> 'null' AND j.key < 4096 AND json_extract(j.value, '$.u') IS NOT NULL;
-- +goose StatementBegin
CREATE TRIGGER right_entries_end AFTER INSERT ON right_entries WHEN instr(new.entry, '"until"') > 0 BEGIN
    INSERT INTO ends (id, what, system_id, account_id, state, ordered, why, live, may_end, name, place) SELECT id, 'right', system_id, account_id, 'ends', ordered, '', 1, 0, name, place FROM right_ends WHERE entry_id = new.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER right_entries_end_otherwise AFTER UPDATE OF entry, taken ON right_entries WHEN instr(new.entry, '"until"') > 0 OR instr(old.entry, '"until"') > 0 BEGIN
    DELETE FROM ends WHERE id = 1125899906842624 + new.id;
    INSERT INTO ends (id, what, system_id, account_id, state, ordered, why, live, may_end, name, place) SELECT id, 'right', system_id, account_id, 'ends', ordered, '', 1, 0, name, place FROM right_ends WHERE entry_id = new.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER right_entries_end_deleted AFTER DELETE ON right_entries WHEN instr(old.entry, '"until"') > 0 BEGIN
    DELETE FROM ends WHERE id = 1125899906842624 + old.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER right_principals_end AFTER INSERT ON right_principals WHEN instr(new.lies_in, '"u":') > 0 BEGIN
    INSERT INTO ends (id, what, system_id, account_id, state, ordered, why, live, may_end, name, place) SELECT id, 'membership', system_id, account_id, 'ends', ordered, '', 1, 0, name, place FROM membership_ends WHERE principal_id = new.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER right_principals_end_otherwise AFTER UPDATE OF lies_in ON right_principals WHEN instr(new.lies_in, '"u":') > 0 OR instr(old.lies_in, '"u":') > 0 BEGIN
    DELETE FROM ends WHERE id >= 2251799813685248 + new.id * 4096 AND id < 2251799813685248 + (new.id + 1) * 4096;
    INSERT INTO ends (id, what, system_id, account_id, state, ordered, why, live, may_end, name, place) SELECT id, 'membership', system_id, account_id, 'ends', ordered, '', 1, 0, name, place FROM membership_ends WHERE principal_id = new.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER right_principals_end_deleted AFTER DELETE ON right_principals WHEN instr(old.lies_in, '"u":') > 0 BEGIN
    DELETE FROM ends WHERE id >= 2251799813685248 + old.id * 4096 AND id < 2251799813685248 + (old.id + 1) * 4096;
END;
-- +goose StatementEnd

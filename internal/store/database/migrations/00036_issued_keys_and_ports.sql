-- +goose Up
-- Keys that an issuer accepts, and the files that hold them, are found by their public half
-- like those of SSH.
DROP INDEX dependents_key;
CREATE INDEX dependents_key ON dependents (json_extract(key, '$.fingerprint')) WHERE kind IN ('key', 'authorized key', 'cloud key', 'issued key');

-- The certificate that a port shows ends, too.
DROP TRIGGER dependents_ends_insert;
DROP TRIGGER dependents_ends_update;
DROP TRIGGER dependents_ends_delete;
DROP VIEW dependent_ends;
CREATE VIEW dependent_ends AS
    SELECT id, system_id, what, state, CASE state WHEN 'ends' THEN moment WHEN 'ended' THEN '' WHEN 'unknown' THEN '~1' ELSE '~2' END AS ordered,
        CASE WHEN state = 'ended' THEN ended WHEN state = 'unknown' AND kind = 'cloud key' THEN 'its issuer is not read' WHEN state = 'unknown' THEN 'it does not say' ELSE '' END AS why
    FROM (SELECT id, system_id, kind, what, ended, moment,
            CASE WHEN ended <> '' THEN 'ended' WHEN moment >= '2200' THEN 'never' WHEN moment <> '' THEN 'ends' WHEN kind IN ('authorized key', 'issued key') THEN 'never' ELSE 'unknown' END AS state
        FROM (SELECT id, system_id, kind, CASE WHEN kind IN ('certificate', 'tls port') THEN 'certificate' ELSE 'key' END AS what, COALESCE(json_extract(key, '$.ended'), '') AS ended,
                COALESCE(substr(json_extract(key, '$.ends'), 1, 19) || '.000Z', '') AS moment
            FROM dependents d WHERE kind IN ('authorized key', 'certificate', 'cloud key', 'issued key', 'tls port') AND gone = '' AND key <> 'null'
                -- What a file of a key says, its issuer says better, where that is read.
                AND NOT (kind = 'cloud key' AND EXISTS (SELECT 1 FROM dependents i WHERE i.kind = 'issued key' AND i.gone = '' AND json_extract(i.key, '$.key_id') = json_extract(d.key, '$.key_id')))));
-- +goose StatementBegin
CREATE TRIGGER dependents_ends_insert AFTER INSERT ON dependents WHEN new.kind IN ('authorized key', 'certificate', 'cloud key', 'issued key', 'tls port') BEGIN
    INSERT INTO ends (id, what, system_id, dependent_id, state, ordered, why, live, may_end) SELECT -id, what, system_id, id, state, ordered, why, 1, 0 FROM dependent_ends WHERE id = new.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER dependents_ends_update AFTER UPDATE OF key, gone ON dependents WHEN new.kind IN ('authorized key', 'certificate', 'cloud key', 'issued key', 'tls port') BEGIN
    DELETE FROM ends WHERE id = -new.id;
    INSERT INTO ends (id, what, system_id, dependent_id, state, ordered, why, live, may_end) SELECT -id, what, system_id, id, state, ordered, why, 1, 0 FROM dependent_ends WHERE id = new.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER dependents_ends_delete AFTER DELETE ON dependents WHEN old.kind IN ('authorized key', 'certificate', 'cloud key', 'issued key', 'tls port') BEGIN
    DELETE FROM ends WHERE id = -old.id;
END;
-- +goose StatementEnd

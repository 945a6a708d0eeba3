-- +goose Up
-- Certificates in files and behind ports are found by their public half, as the keys that they
-- are about.
DROP INDEX dependents_key;
CREATE INDEX dependents_key ON dependents (json_extract(key, '$.fingerprint')) WHERE kind IN ('key', 'authorized key', 'cloud key', 'issued key', 'certificate', 'tls port');

-- What an authority signed about a key that is in custody or was: nothing of it is secret, and
-- undoing needs the one before.
CREATE TABLE chains (
    fingerprint TEXT PRIMARY KEY, -- of the public half
    chain       TEXT NOT NULL,    -- PEM, in order
    system_id   INTEGER,          -- the authority that issued it; NULL where it was found
    kept        TEXT NOT NULL
) STRICT;

-- +goose Up
-- Keys that an issuer accepts, and the files that hold them, are found by their public half
-- like those of SSH.
DROP INDEX dependents_key;
CREATE INDEX dependents_key ON dependents (json_extract(key, '$.fingerprint')) WHERE kind IN ('key', 'authorized key', 'cloud key', 'issued key');

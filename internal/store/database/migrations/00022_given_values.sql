-- +goose Up
-- Values that people gave for rotations of a batch, sealed for their accounts.
CREATE TABLE given_values (
    batch_id INTEGER NOT NULL REFERENCES batches (id) ON DELETE CASCADE, credential_id INTEGER NOT NULL REFERENCES credentials (id) ON DELETE CASCADE,
    fingerprint TEXT NOT NULL, sealed BLOB NOT NULL, created TEXT NOT NULL,
    PRIMARY KEY (batch_id, credential_id)
) WITHOUT ROWID;
CREATE INDEX given_values_credential ON given_values (credential_id, fingerprint);
-- What a second person approves of a batch: what each rehearsal came to, and who approved it.
ALTER TABLE batch_items ADD COLUMN second TEXT NOT NULL DEFAULT '[]';
ALTER TABLE batch_items ADD COLUMN digest TEXT NOT NULL DEFAULT '';
ALTER TABLE batches ADD COLUMN consent TEXT NOT NULL DEFAULT '';

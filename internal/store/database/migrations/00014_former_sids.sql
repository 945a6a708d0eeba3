-- +goose Up
-- Identifiers that accounts had in domains that they were moved from: what runs as one of
-- them runs as the account of today.
CREATE TABLE former_sids (
    sid TEXT NOT NULL,
    account_id INTEGER NOT NULL REFERENCES accounts (id) ON DELETE CASCADE,
    PRIMARY KEY (sid, account_id)
) WITHOUT ROWID;
CREATE INDEX former_sids_account ON former_sids (account_id);

-- +goose Up
-- Log-ons that systems keep: whether a password is stored, its fingerprint
-- where it shows, and the fingerprint of what was given from here and when.
ALTER TABLE dependents ADD COLUMN identity TEXT NOT NULL DEFAULT '';
ALTER TABLE dependents ADD COLUMN stores INTEGER NOT NULL DEFAULT 0;
ALTER TABLE dependents ADD COLUMN stored TEXT NOT NULL DEFAULT '';
ALTER TABLE dependents ADD COLUMN started TEXT NOT NULL DEFAULT '';
ALTER TABLE dependents ADD COLUMN result TEXT NOT NULL DEFAULT '';
ALTER TABLE dependents ADD COLUMN given TEXT NOT NULL DEFAULT '';
ALTER TABLE dependents ADD COLUMN given_at TEXT NOT NULL DEFAULT '';
ALTER TABLE dependents ADD COLUMN given_account INTEGER NOT NULL DEFAULT 0;
ALTER TABLE findings ADD COLUMN dependent_id INTEGER NOT NULL DEFAULT 0;
UPDATE dependents SET identity = CASE WHEN runs_as = '' THEN '' WHEN runs_as IN ('root', '0') THEN 'built-in' ELSE 'named' END;
-- What is the same as before is seen again, with its new columns.
UPDATE dependents SET digest = x'00';

-- +goose Up
-- Names are compared as directories prepare them (RFC 4518), and looked for on
-- one system or in one domain, of which there may be a thousand.
UPDATE accounts SET folded = moss_fold(name), upn = moss_fold(upn), dn_normal = moss_dn(dn);
DROP INDEX accounts_folded;
CREATE INDEX accounts_folded ON accounts (folded, system_id);

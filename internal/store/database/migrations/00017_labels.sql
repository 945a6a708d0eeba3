-- +goose Up
-- Rules put labels on accounts, people do so by hand; account_labels is what comes of both,
-- with the exclusions taken away. It is made anew from the others whenever one changes.
CREATE TABLE rules (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    label TEXT NOT NULL,
    excludes INTEGER NOT NULL DEFAULT 0,
    condition TEXT NOT NULL,
    description TEXT NOT NULL DEFAULT '',
    revision INTEGER NOT NULL DEFAULT 1,
    changed TEXT NOT NULL,
    changed_by TEXT NOT NULL
);
CREATE TABLE hand_labels (
    account_id INTEGER NOT NULL REFERENCES accounts (id) ON DELETE CASCADE,
    label TEXT NOT NULL,
    reason TEXT NOT NULL,
    set_by TEXT NOT NULL,
    set_at TEXT NOT NULL,
    PRIMARY KEY (account_id, label)
) WITHOUT ROWID;
CREATE TABLE rule_matches (
    account_id INTEGER NOT NULL REFERENCES accounts (id) ON DELETE CASCADE,
    rule_id INTEGER NOT NULL REFERENCES rules (id) ON DELETE CASCADE,
    PRIMARY KEY (account_id, rule_id)
) WITHOUT ROWID;
CREATE INDEX rule_matches_rule ON rule_matches (rule_id);
CREATE TABLE account_labels (
    account_id INTEGER NOT NULL REFERENCES accounts (id) ON DELETE CASCADE,
    label TEXT NOT NULL,
    PRIMARY KEY (account_id, label)
) WITHOUT ROWID;
CREATE INDEX account_labels_label ON account_labels (label);

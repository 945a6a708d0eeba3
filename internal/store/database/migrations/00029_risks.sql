-- +goose Up
-- How much each account matters: what it could do, times how weakly it is held.
CREATE TABLE risks (
    account_id INTEGER PRIMARY KEY REFERENCES accounts (id) ON DELETE CASCADE,
    score INTEGER NOT NULL, power INTEGER NOT NULL, weakness INTEGER NOT NULL, parts TEXT NOT NULL, since TEXT NOT NULL
);
CREATE INDEX risks_score ON risks (score);

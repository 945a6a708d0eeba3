-- +goose Up
-- What people have set for themselves in the console: columns, saved views. Nothing of it
-- decides what anybody may do.
CREATE TABLE settings (
    user TEXT NOT NULL REFERENCES users (name) ON DELETE CASCADE,
    name TEXT NOT NULL,
    value TEXT NOT NULL,
    PRIMARY KEY (user, name)
) WITHOUT ROWID;

-- +goose Up
-- Options of all systems that have something in common.
CREATE TABLE common_options (
    id INTEGER PRIMARY KEY, field TEXT NOT NULL, value TEXT NOT NULL, name TEXT NOT NULL, setting TEXT NOT NULL, set_by TEXT NOT NULL, changed TEXT NOT NULL,
    UNIQUE (field, value, name)
);

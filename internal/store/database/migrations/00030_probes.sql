-- +goose Up
-- What ports answered, from where and when.
CREATE TABLE probes (
    id INTEGER PRIMARY KEY, at TEXT NOT NULL, asked_by TEXT NOT NULL, system_id INTEGER REFERENCES systems (id) ON DELETE CASCADE,
    target TEXT NOT NULL, outcome TEXT NOT NULL, was TEXT NOT NULL DEFAULT '', words TEXT NOT NULL, detail TEXT NOT NULL
);
CREATE INDEX probes_target ON probes (target, system_id, id);
CREATE INDEX probes_at ON probes (at);

-- +goose Up
-- What is sent to systems, while somebody wants to see it.
CREATE TABLE traces (
    id INTEGER PRIMARY KEY, system_id INTEGER NOT NULL REFERENCES systems (id) ON DELETE CASCADE, account TEXT NOT NULL DEFAULT '', reason TEXT NOT NULL,
    started TEXT NOT NULL, started_by TEXT NOT NULL, ends TEXT NOT NULL, ended TEXT NOT NULL DEFAULT '', ended_by TEXT NOT NULL DEFAULT '',
    operations INTEGER NOT NULL DEFAULT 0, refused INTEGER NOT NULL DEFAULT 0, failed INTEGER NOT NULL DEFAULT 0, lost INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX traces_open ON traces (ended) WHERE ended = '';
CREATE TABLE operations (
    id INTEGER PRIMARY KEY, trace_id INTEGER NOT NULL REFERENCES traces (id) ON DELETE CASCADE,
    at TEXT NOT NULL, protocol TEXT NOT NULL, text TEXT NOT NULL, took INTEGER NOT NULL, outcome TEXT NOT NULL, exit INTEGER NOT NULL, words TEXT NOT NULL
);
CREATE INDEX operations_trace ON operations (trace_id, outcome);

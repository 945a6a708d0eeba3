-- +goose Up
-- Changes of rights that the engine of rotations carries out, each with its journal.
CREATE TABLE amendments (
    id INTEGER PRIMARY KEY, charter TEXT NOT NULL DEFAULT '', subject TEXT NOT NULL, plan TEXT NOT NULL, checks TEXT NOT NULL, verdict TEXT NOT NULL, left_out TEXT NOT NULL DEFAULT '[]',
    rehearsed TEXT NOT NULL, rehearsed_by TEXT NOT NULL, mode TEXT NOT NULL, result TEXT NOT NULL DEFAULT '',
    requested_by TEXT NOT NULL DEFAULT '', reason TEXT NOT NULL DEFAULT '', consent TEXT NOT NULL DEFAULT '', approval_id INTEGER NOT NULL DEFAULT 0,
    started TEXT NOT NULL DEFAULT '', ended TEXT NOT NULL DEFAULT ''
);
CREATE INDEX amendments_open ON amendments (mode) WHERE mode IN ('running', 'undoing', 'stopped');
CREATE TABLE amendment_journal (
    amendment_id INTEGER NOT NULL REFERENCES amendments (id), seq INTEGER NOT NULL, time TEXT NOT NULL, event TEXT NOT NULL, step INTEGER NOT NULL, undo INTEGER NOT NULL,
    result TEXT NOT NULL, memo TEXT NOT NULL, words TEXT NOT NULL, actor TEXT NOT NULL, reason TEXT NOT NULL, PRIMARY KEY (amendment_id, seq)
);

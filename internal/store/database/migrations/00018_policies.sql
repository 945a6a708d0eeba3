-- +goose Up
-- Windows are times that recur; each label, system and dependent has at most one of its own.
CREATE TABLE windows (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE, rule TEXT NOT NULL, begins TEXT NOT NULL, zone TEXT NOT NULL, minutes INTEGER NOT NULL,
    description TEXT NOT NULL DEFAULT '', revision INTEGER NOT NULL DEFAULT 1, changed TEXT NOT NULL, changed_by TEXT NOT NULL
);
CREATE TABLE window_targets (
    window_id INTEGER NOT NULL REFERENCES windows (id) ON DELETE CASCADE,
    label TEXT UNIQUE,
    system_id INTEGER UNIQUE REFERENCES systems (id) ON DELETE CASCADE,
    dependent_id INTEGER UNIQUE REFERENCES dependents (id) ON DELETE CASCADE
);
CREATE INDEX window_targets_window ON window_targets (window_id);
-- Policies say how often, when and how credentials are rotated without a person. What only
-- the program reads of one stands in its settings.
CREATE TABLE policies (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE, label TEXT NOT NULL, precedence INTEGER NOT NULL UNIQUE,
    window_id INTEGER REFERENCES windows (id), paused INTEGER NOT NULL DEFAULT 0, settings TEXT NOT NULL,
    description TEXT NOT NULL DEFAULT '', revision INTEGER NOT NULL DEFAULT 1, changed TEXT NOT NULL, changed_by TEXT NOT NULL
);
-- The turn of each credential that a policy decides for: since when it does, when it comes
-- next, and what came of the last one.
CREATE TABLE turns (
    credential_id INTEGER PRIMARY KEY REFERENCES credentials (id) ON DELETE CASCADE,
    policy_id INTEGER NOT NULL REFERENCES policies (id) ON DELETE CASCADE,
    since TEXT NOT NULL, next TEXT NOT NULL DEFAULT '', next_ends TEXT NOT NULL DEFAULT '', due TEXT NOT NULL DEFAULT '',
    tried TEXT NOT NULL DEFAULT '', failed INTEGER NOT NULL DEFAULT 0, words TEXT NOT NULL DEFAULT '', rotation_id INTEGER
);
CREATE INDEX turns_policy ON turns (policy_id);
CREATE INDEX turns_next ON turns (next);
-- What a person says of the order of restarts: dependents of which only some are restarted
-- at the same time, or of which some come before others.
CREATE TABLE orders (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE COLLATE NOCASE, kind TEXT NOT NULL, at_once INTEGER NOT NULL DEFAULT 1, members TEXT NOT NULL,
    description TEXT NOT NULL DEFAULT '', revision INTEGER NOT NULL DEFAULT 1, changed TEXT NOT NULL, changed_by TEXT NOT NULL
);
-- How long a dependent stood still in a rotation, from its restart until it was proven.
CREATE TABLE interruptions (
    rotation_id INTEGER NOT NULL REFERENCES rotations (id), system_id INTEGER NOT NULL REFERENCES systems (id) ON DELETE CASCADE,
    place TEXT NOT NULL, at TEXT NOT NULL, milliseconds INTEGER NOT NULL, expected INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (rotation_id, system_id, place)
) WITHOUT ROWID;
CREATE INDEX interruptions_place ON interruptions (system_id, place, at);
-- What a token is for alone; empty for everything that its owner may.
ALTER TABLE tokens ADD COLUMN only TEXT NOT NULL DEFAULT '';

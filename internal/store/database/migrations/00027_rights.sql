-- +goose Up
-- Who may do what, as systems showed it. A principal is kept with all that it lies in; a
-- list with its entries, of which those that were taken back stay with the time of that.
CREATE TABLE right_principals (
    id INTEGER PRIMARY KEY, system_id INTEGER NOT NULL REFERENCES systems(id) ON DELETE CASCADE, key TEXT NOT NULL,
    kind TEXT NOT NULL, name TEXT NOT NULL, lies_in TEXT NOT NULL, digest BLOB NOT NULL, UNIQUE (system_id, key)
);
CREATE TABLE right_lists (
    id INTEGER PRIMARY KEY, system_id INTEGER NOT NULL REFERENCES systems(id) ON DELETE CASCADE, key TEXT NOT NULL,
    decides TEXT NOT NULL, objects TEXT NOT NULL,
    shown TEXT NOT NULL, object_kind TEXT NOT NULL, object TEXT NOT NULL, digest BLOB NOT NULL, first_seen TEXT NOT NULL, changed TEXT NOT NULL, UNIQUE (system_id, key)
);
CREATE TABLE right_entries (
    id INTEGER PRIMARY KEY, list_id INTEGER NOT NULL REFERENCES right_lists(id) ON DELETE CASCADE, seq INTEGER NOT NULL, digest BLOB NOT NULL,
    given_to TEXT NOT NULL, verb TEXT NOT NULL, deny INTEGER NOT NULL, what TEXT NOT NULL, entry TEXT NOT NULL, first_seen TEXT NOT NULL, taken TEXT NOT NULL DEFAULT ''
);
CREATE INDEX right_entries_list ON right_entries (list_id, taken);
CREATE INDEX right_entries_taken ON right_entries (id) WHERE taken <> '';

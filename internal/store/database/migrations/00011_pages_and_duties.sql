-- +goose Up
-- A page of findings or visits is read from an index in the order in which they are
-- shown at first, in place of sorting all of them.
CREATE INDEX findings_open ON findings ((CASE severity WHEN 'high' THEN '1 high' WHEN 'medium' THEN '2 medium' ELSE '3 low' END) COLLATE NOCASE, id) WHERE cleared = '';
CREATE INDEX findings_all ON findings ((CASE severity WHEN 'high' THEN '1 high' WHEN 'medium' THEN '2 medium' ELSE '3 low' END) COLLATE NOCASE, id);
CREATE INDEX visits_shown ON visits (survey_id, system COLLATE NOCASE, id);

-- What the service does regularly is a row, with what came of it.
CREATE TABLE duties (name TEXT PRIMARY KEY, begun TEXT NOT NULL, ended TEXT NOT NULL DEFAULT '', words TEXT NOT NULL DEFAULT '') WITHOUT ROWID;
INSERT INTO duties (name, begun) SELECT substr(key, 10), replace(CAST(value AS TEXT), 'Z', '.000Z') FROM meta WHERE key LIKE 'schedule/%';
DELETE FROM meta WHERE key LIKE 'schedule/%';

-- +goose Up
-- Parts of words of dependents, three letters each: a filter for a part of a
-- name does not look at every row. Also of those that are gone, which lists show.
CREATE VIRTUAL TABLE parts_dependents USING fts5(text, content='', contentless_delete=1, detail=none, tokenize='trigram');
INSERT INTO parts_dependents (rowid, text) SELECT id, CASE instr(place, name) WHEN 0 THEN name || ' ' ELSE '' END || place || ' ' || description || ' ' || runs_as || ' ' || executable FROM dependents;
-- +goose StatementBegin
CREATE TRIGGER dependents_parts_insert AFTER INSERT ON dependents BEGIN
    INSERT INTO parts_dependents (rowid, text) VALUES (new.id, CASE instr(new.place, new.name) WHEN 0 THEN new.name || ' ' ELSE '' END || new.place || ' ' || new.description || ' ' || new.runs_as || ' ' || new.executable);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER dependents_parts_update AFTER UPDATE OF name, place, description, runs_as, executable ON dependents
    WHEN (new.name, new.place, new.description, new.runs_as, new.executable) IS NOT (old.name, old.place, old.description, old.runs_as, old.executable) BEGIN
    DELETE FROM parts_dependents WHERE rowid = old.id;
    INSERT INTO parts_dependents (rowid, text) VALUES (new.id, CASE instr(new.place, new.name) WHEN 0 THEN new.name || ' ' ELSE '' END || new.place || ' ' || new.description || ' ' || new.runs_as || ' ' || new.executable);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER dependents_parts_delete AFTER DELETE ON dependents BEGIN
    DELETE FROM parts_dependents WHERE rowid = old.id;
END;
-- +goose StatementEnd

-- +goose Up
-- Principals that a system knows by a name of somewhere else: few among many.
CREATE INDEX right_principals_named ON right_principals (key, system_id) WHERE substr(key, 1, 5) = 'name:';


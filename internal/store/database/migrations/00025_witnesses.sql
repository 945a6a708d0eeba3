-- +goose Up
-- What a system's own log told of who may have made a change (JSON); '' where none was read.
ALTER TABLE changes ADD COLUMN witnesses TEXT NOT NULL DEFAULT '';

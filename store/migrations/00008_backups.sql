-- When the database was copied last, and where to: so that it can be said when that is long ago.

-- +goose Up
PRAGMA user_version = 8;

CREATE TABLE backup (
    at       TEXT    NOT NULL,
    file     TEXT    NOT NULL,
    revision INTEGER NOT NULL
) STRICT;

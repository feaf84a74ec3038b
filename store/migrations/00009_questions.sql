-- Questions that somebody kept under a name: an address of the interface, with all that its view is set to.

-- +goose Up
PRAGMA user_version = 9;

CREATE TABLE question (
    name    TEXT NOT NULL PRIMARY KEY COLLATE NOCASE,
    address TEXT NOT NULL,
    who     TEXT NOT NULL,
    at      TEXT NOT NULL
) STRICT;

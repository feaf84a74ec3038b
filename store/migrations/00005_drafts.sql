-- Drafts: changes that are not in force. A draft's lines are the text of a change, in the order in which they are to be read; what of it is done
-- already is a line of the log each, by revision.

-- +goose Up
PRAGMA user_version = 5;

CREATE TABLE draft (
    id       INTEGER PRIMARY KEY,
    title    TEXT    NOT NULL CHECK (title <> ''),
    author   TEXT    NOT NULL,
    why      TEXT    NOT NULL DEFAULT '',
    at       TEXT    NOT NULL,
    revision INTEGER NOT NULL,
    gone     TEXT    NOT NULL,
    come     TEXT    NOT NULL
) STRICT;

CREATE TABLE draft_done (
    draft    INTEGER NOT NULL REFERENCES draft (id) ON DELETE CASCADE,
    place    TEXT    NOT NULL,
    who      TEXT    NOT NULL,
    at       TEXT    NOT NULL,
    revision INTEGER NOT NULL
) STRICT;

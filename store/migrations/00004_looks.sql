-- What was seen of the estate, apart from what is recorded of it: looks are never changed, and go by their age.

-- +goose Up
PRAGMA user_version = 4;

CREATE TABLE look (
    id       INTEGER PRIMARY KEY,
    at       TEXT    NOT NULL,
    vantage  TEXT    NOT NULL,
    target   TEXT    NOT NULL,
    did      TEXT    NOT NULL CHECK (did IN ('resolve', 'connect', 'tls', 'http')),
    came     TEXT    NOT NULL,
    address  TEXT    NOT NULL DEFAULT '',
    revision INTEGER NOT NULL DEFAULT 0,
    seen     TEXT    NOT NULL,
    UNIQUE (at, vantage, target, did, address)
) STRICT;
CREATE INDEX look_at ON look (at);

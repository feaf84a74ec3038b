-- People: accounts, their sessions in a browser, tokens for scripts, and what happened to them. Of secrets only what they are told by is kept:
-- a hash of a password (Argon2id), digests of codes, tokens and sessions. An account is never taken away, since the log names it.

-- +goose Up
PRAGMA user_version = 7;

CREATE TABLE account (
    id         INTEGER PRIMARY KEY AUTOINCREMENT,
    name       TEXT    NOT NULL UNIQUE COLLATE NOCASE CHECK (name <> ''),
    role       TEXT    NOT NULL CHECK (role IN ('reader', 'editor', 'keeper')),
    email      TEXT    NOT NULL DEFAULT '' COLLATE NOCASE,
    subject    TEXT    UNIQUE,
    hash       TEXT    NOT NULL DEFAULT '',
    code       TEXT    NOT NULL DEFAULT '',
    code_until TEXT    NOT NULL DEFAULT '',
    epoch      INTEGER NOT NULL DEFAULT 1,
    off        INTEGER NOT NULL DEFAULT 0 CHECK (off IN (0, 1)),
    at         TEXT    NOT NULL,
    seen       TEXT    NOT NULL DEFAULT ''
) STRICT;
CREATE UNIQUE INDEX account_email ON account (email) WHERE email <> '';

CREATE TABLE session (
    token  TEXT    PRIMARY KEY,
    data   BLOB    NOT NULL,
    expiry INTEGER NOT NULL,
    seen   INTEGER NOT NULL
) STRICT;

CREATE TABLE token (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    account INTEGER NOT NULL REFERENCES account (id) ON DELETE CASCADE,
    name    TEXT    NOT NULL,
    digest  TEXT    NOT NULL UNIQUE,
    role    TEXT    NOT NULL CHECK (role IN ('reader', 'editor')),
    at      TEXT    NOT NULL,
    until   TEXT    NOT NULL,
    seen    TEXT    NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX token_account ON token (account);

CREATE TABLE people_event (
    at     TEXT NOT NULL,
    who    TEXT NOT NULL,
    what   TEXT NOT NULL,
    source TEXT NOT NULL DEFAULT ''
) STRICT;

-- A draft is amended while it is looked through: each time its edition goes up, and the lines that it had before are kept, so that it can be
-- taken back. The key is what its maker calls an amendment: the same sent again is kept once. No draft gets the number of one that is gone,
-- since somebody may still be looking through that.

-- +goose Up
PRAGMA user_version = 6;

CREATE TABLE draft_next (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    title    TEXT    NOT NULL CHECK (title <> ''),
    author   TEXT    NOT NULL,
    why      TEXT    NOT NULL DEFAULT '',
    at       TEXT    NOT NULL,
    revision INTEGER NOT NULL,
    gone     TEXT    NOT NULL,
    come     TEXT    NOT NULL,
    edition  INTEGER NOT NULL DEFAULT 1
) STRICT;

CREATE TABLE draft_done_next (
    draft    INTEGER NOT NULL REFERENCES draft_next (id) ON DELETE CASCADE,
    place    TEXT    NOT NULL,
    who      TEXT    NOT NULL,
    at       TEXT    NOT NULL,
    revision INTEGER NOT NULL
) STRICT;

INSERT INTO draft_next (id, title, author, why, at, revision, gone, come) SELECT id, title, author, why, at, revision, gone, come FROM draft;
INSERT INTO draft_done_next SELECT * FROM draft_done ORDER BY rowid;
DROP TABLE draft_done;
DROP TABLE draft;
ALTER TABLE draft_next RENAME TO draft;
ALTER TABLE draft_done_next RENAME TO draft_done;

CREATE TABLE draft_past (
    draft   INTEGER NOT NULL REFERENCES draft (id) ON DELETE CASCADE,
    edition INTEGER NOT NULL,
    key     TEXT    NOT NULL DEFAULT '',
    gone    TEXT    NOT NULL,
    come    TEXT    NOT NULL,
    PRIMARY KEY (draft, edition)
) STRICT;

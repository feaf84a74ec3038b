-- A site of which nobody knows what it does.

-- +goose Up
PRAGMA user_version = 3;

ALTER TABLE kind_site ADD COLUMN "unknown" INTEGER NOT NULL DEFAULT 0 CHECK ("unknown" IN (0, 1));

-- What marks the file as this program's, what the log shows of a change, and what the notation can say since.

-- +goose Up
PRAGMA application_id = 0x53434F4D;
PRAGMA user_version = 2;

-- The lines that the log shows of a change, and how many there are in all, as JSON.
ALTER TABLE change ADD COLUMN summary TEXT NOT NULL DEFAULT '';

-- What the maker of a change calls it: the same one sent again is not kept twice.
ALTER TABLE change ADD COLUMN "key" TEXT;
CREATE UNIQUE INDEX change_key ON change ("key") WHERE "key" IS NOT NULL;

-- A rule of which nobody knows what it does.
ALTER TABLE kind_rule ADD COLUMN "does" TEXT NOT NULL DEFAULT 'pass' CHECK ("does" IN ('pass', 'drop', 'refuse', 'unknown'));
UPDATE kind_rule SET "does" = "action";
ALTER TABLE kind_rule DROP COLUMN "action";
ALTER TABLE kind_rule RENAME COLUMN "does" TO "action";

-- A certificate that is wanted and not issued yet.
ALTER TABLE kind_cert ADD COLUMN "ends" TEXT;
UPDATE kind_cert SET "ends" = "expires";
ALTER TABLE kind_cert DROP COLUMN "expires";
ALTER TABLE kind_cert RENAME COLUMN "ends" TO "expires";

ALTER TABLE kind_zone ADD COLUMN "expires" TEXT;
ALTER TABLE kind_filter ADD COLUMN "strict" INTEGER NOT NULL DEFAULT 0 CHECK ("strict" IN (0, 1));
ALTER TABLE kind_listen ADD COLUMN "in_order" INTEGER NOT NULL DEFAULT 0 CHECK ("in_order" IN (0, 1));

-- Passes and results that were discarded, caveats and edited notes, and files kept as proof.

ALTER TABLE pass ADD COLUMN discarded TEXT DEFAULT '' NOT NULL;
ALTER TABLE result ADD COLUMN discarded TEXT DEFAULT '' NOT NULL;
ALTER TABLE note ADD COLUMN caveat BOOLEAN DEFAULT '0' NOT NULL;
ALTER TABLE note ADD COLUMN edited_at TEXT DEFAULT '' NOT NULL;
CREATE TABLE attachment (
    id INTEGER NOT NULL PRIMARY KEY,
    step INTEGER NOT NULL REFERENCES step (number),
    at TEXT NOT NULL,
    name TEXT NOT NULL,
    sha256 TEXT NOT NULL,
    data BLOB NOT NULL
);
CREATE INDEX ix_attachment_step ON attachment (step);

-- Restarts, evidence, profiles and plans: what an attempt was to run, what a failure points to, what is kept by name.

ALTER TABLE step ADD COLUMN derived TEXT;
ALTER TABLE attempt ADD COLUMN "check" TEXT;
ALTER TABLE attempt ADD COLUMN last TEXT;
ALTER TABLE attempt ADD COLUMN points_to TEXT;
ALTER TABLE attempt ADD COLUMN signs TEXT;
ALTER TABLE pass ADD COLUMN frame_times BLOB;
CREATE TABLE profile (
    name TEXT NOT NULL PRIMARY KEY,
    purpose TEXT NOT NULL,
    benchmark TEXT NOT NULL,
    setup TEXT NOT NULL,
    step INTEGER REFERENCES step (number),
    at TEXT NOT NULL
);
CREATE TABLE "plan" (
    id INTEGER NOT NULL PRIMARY KEY,
    definition TEXT NOT NULL,
    start TEXT NOT NULL,
    started_at TEXT NOT NULL,
    started_s FLOAT NOT NULL,
    ended_at TEXT,
    "end" TEXT
);
CREATE TABLE plan_move (
    "plan" INTEGER NOT NULL REFERENCES "plan" (id),
    number INTEGER NOT NULL,
    words TEXT NOT NULL,
    attempt INTEGER,
    result TEXT,
    PRIMARY KEY ("plan", number)
);

-- The first tables: rigs, steps, attempts, passes, sample blocks, journal, notes and state.

CREATE TABLE rig (
    id INTEGER NOT NULL PRIMARY KEY,
    kind TEXT NOT NULL,
    name TEXT NOT NULL,
    definition TEXT NOT NULL
);
CREATE TABLE step (
    number INTEGER NOT NULL PRIMARY KEY,
    rig INTEGER NOT NULL REFERENCES rig (id),
    kind TEXT NOT NULL,
    parent INTEGER REFERENCES step (number),
    setup TEXT NOT NULL,
    changes TEXT NOT NULL,
    joint BOOLEAN NOT NULL
);
CREATE TABLE attempt (
    id INTEGER NOT NULL PRIMARY KEY,
    step INTEGER NOT NULL REFERENCES step (number),
    home TEXT NOT NULL,
    home_step INTEGER,
    boot_id TEXT NOT NULL,
    started_at TEXT NOT NULL,
    started_s FLOAT NOT NULL,
    conditions TEXT NOT NULL,
    verdict TEXT,
    failure TEXT,
    stage TEXT,
    time_to_failure_s FLOAT,
    reason TEXT,
    code TEXT,
    rests_at TEXT,
    verified BOOLEAN,
    closed_at TEXT
);
CREATE INDEX ix_attempt_step ON attempt (step);
CREATE TABLE pass (
    attempt INTEGER NOT NULL REFERENCES attempt (id),
    ordinal INTEGER NOT NULL,
    stage TEXT NOT NULL,
    workload TEXT NOT NULL,
    round INTEGER NOT NULL,
    warm_up BOOLEAN NOT NULL,
    started_s FLOAT NOT NULL,
    ok BOOLEAN,
    score FLOAT,
    duration_s FLOAT,
    failure TEXT,
    detail TEXT,
    facts TEXT,
    disturbed TEXT DEFAULT '' NOT NULL,
    PRIMARY KEY (attempt, ordinal)
);
CREATE TABLE sample_block (
    id INTEGER NOT NULL PRIMARY KEY,
    attempt INTEGER NOT NULL REFERENCES attempt (id),
    ordinal INTEGER,
    from_s FLOAT NOT NULL,
    to_s FLOAT NOT NULL,
    samples INTEGER NOT NULL,
    channels TEXT NOT NULL,
    data BLOB NOT NULL
);
CREATE INDEX ix_sample_block_attempt ON sample_block (attempt);
CREATE TABLE journal (
    id INTEGER NOT NULL PRIMARY KEY,
    attempt INTEGER,
    act TEXT NOT NULL,
    detail TEXT NOT NULL
);
CREATE INDEX ix_journal_attempt ON journal (attempt);
CREATE TABLE note (
    id INTEGER NOT NULL PRIMARY KEY,
    step INTEGER NOT NULL REFERENCES step (number),
    at TEXT NOT NULL,
    text TEXT NOT NULL
);
CREATE INDEX ix_note_step ON note (step);
CREATE TABLE state (
    name TEXT NOT NULL PRIMARY KEY,
    value TEXT NOT NULL
);

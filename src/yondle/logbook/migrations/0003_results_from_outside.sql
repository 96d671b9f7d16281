-- Results and sensor logs that were measured outside Yondle and added to a step.

CREATE TABLE result (
    id INTEGER NOT NULL PRIMARY KEY,
    step INTEGER NOT NULL REFERENCES step (number),
    workload TEXT NOT NULL,
    at TEXT NOT NULL,
    score FLOAT NOT NULL,
    facts TEXT NOT NULL,
    frame_times BLOB
);
CREATE INDEX ix_result_step ON result (step);
CREATE TABLE sensor_log (
    id INTEGER NOT NULL PRIMARY KEY,
    step INTEGER NOT NULL REFERENCES step (number),
    at TEXT NOT NULL,
    name TEXT NOT NULL,
    began_at TEXT NOT NULL,
    channels TEXT NOT NULL,
    samples INTEGER NOT NULL,
    data BLOB NOT NULL
);
CREATE INDEX ix_sensor_log_step ON sensor_log (step);

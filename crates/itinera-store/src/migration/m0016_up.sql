-- Evidence: what each path showed in a minute, by ten seconds, as judgement sealed it. After a day it
-- is summed up by minute into rows of an hour. Both go by the day of the measurement; times that no
-- day's partition holds are in the partitions by default.

CREATE TABLE evidence (
    path_no integer NOT NULL,
    start_at timestamptz NOT NULL,
    -- 0 for the whole minute; rounds that came too late to be judged are parts of their own.
    part bigint NOT NULL,
    content bytea NOT NULL,
    PRIMARY KEY (path_no, start_at, part)
) PARTITION BY RANGE (start_at);
CREATE TABLE evidence_default PARTITION OF evidence DEFAULT;

CREATE TABLE evidence_hour (
    path_no integer NOT NULL,
    start_at timestamptz NOT NULL,
    content bytea NOT NULL,
    PRIMARY KEY (path_no, start_at)
) PARTITION BY RANGE (start_at);
CREATE TABLE evidence_hour_default PARTITION OF evidence_hour DEFAULT;

-- The day that is being summed up: the last path that is, and the rows read so far.
CREATE TABLE evidence_merge (
    day date PRIMARY KEY,
    path_no integer NOT NULL,
    rows bigint NOT NULL
);

-- Windows have another encoding, and opening states are of another engine.
DELETE FROM path_window;
DELETE FROM opening_state;

UPDATE meta SET min_reader = 4;

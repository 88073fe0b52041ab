-- Evidence: what each path and pair showed in a minute, by ten seconds, as judgement sealed it. After a day it
-- is summed up by minute into rows of an hour. Both go by the day of the measurement; times that no
-- day's partition holds are in the partitions by default.

CREATE TABLE evidence (
    -- 0 of a path, 1 of a pair; and its number.
    kind smallint NOT NULL,
    subject_no integer NOT NULL,
    start_at timestamptz NOT NULL,
    -- 0 for the whole minute; rounds that came too late to be judged are parts of their own.
    part bigint NOT NULL,
    content bytea NOT NULL,
    PRIMARY KEY (kind, subject_no, start_at, part)
) PARTITION BY RANGE (start_at);
CREATE TABLE evidence_default PARTITION OF evidence DEFAULT;

CREATE TABLE evidence_hour (
    kind smallint NOT NULL,
    subject_no integer NOT NULL,
    start_at timestamptz NOT NULL,
    content bytea NOT NULL,
    PRIMARY KEY (kind, subject_no, start_at)
) PARTITION BY RANGE (start_at);
CREATE TABLE evidence_hour_default PARTITION OF evidence_hour DEFAULT;

-- The day that is being summed up: the last path or pair that is, and the rows read so far.
CREATE TABLE evidence_merge (
    day date PRIMARY KEY,
    kind smallint NOT NULL,
    subject_no integer NOT NULL,
    rows bigint NOT NULL
);

-- Judgement reads rounds of pairs by commit.
CREATE INDEX two_way_round_by_commit ON two_way_round USING brin (commit_no)
    WITH (pages_per_range = 32, autosummarize = on);

-- The newest judgement of a path is written again every ten seconds: with room in its page it needs no
-- new entries in the index.
ALTER TABLE path_latest SET (fillfactor = 40);

-- Windows have another encoding, and opening states are of another engine.
DELETE FROM path_window;
DELETE FROM opening_state;

UPDATE meta SET min_reader = 4;

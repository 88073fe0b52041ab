-- Rounds of days that are over are kept in blocks: those of one path that were received within ten minutes,
-- by column, compressed. They go by the day of receipt, like the rounds they replace.
CREATE TABLE round_block (
    path_no integer NOT NULL,
    start_at timestamptz NOT NULL,
    content bytea NOT NULL,
    PRIMARY KEY (path_no, start_at)
) PARTITION BY RANGE (start_at);
-- It is compressed already.
ALTER TABLE round_block ALTER COLUMN content SET STORAGE EXTERNAL;
CREATE INDEX round_block_by_time ON round_block USING brin (start_at)
    WITH (pages_per_range = 32, autosummarize = on);

-- The day that is being compacted: where its next blocks begin, the first commit that may be in them, and
-- the rounds in blocks so far.
CREATE TABLE round_compaction (
    day date PRIMARY KEY,
    next_at timestamptz NOT NULL,
    next_commit bigint NOT NULL,
    rounds bigint NOT NULL
);

UPDATE meta SET min_reader = 5;

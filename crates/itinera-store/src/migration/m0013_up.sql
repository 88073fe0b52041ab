-- Measurements of each path summed up over five minutes, an hour and a day; and how far in the log
-- that has come.
CREATE TABLE rollup (
    path_no integer NOT NULL,
    span_s integer NOT NULL,
    start_at timestamptz NOT NULL,
    content bytea NOT NULL,
    PRIMARY KEY (path_no, span_s, start_at)
) WITH (fillfactor = 80);
CREATE INDEX rollup_by_time ON rollup USING brin (start_at);
CREATE TABLE rollup_cursor (
    one_row boolean PRIMARY KEY DEFAULT true CHECK (one_row),
    commit_no bigint NOT NULL
);
INSERT INTO rollup_cursor (commit_no) VALUES (0);

-- Times of the clock that judgement is driven by, as entries of the log: numbers are of one series
-- with those of batches.
CREATE TABLE log_clock (
    commit_no bigint PRIMARY KEY,
    received_at timestamptz NOT NULL,
    clock_at timestamptz NOT NULL
);

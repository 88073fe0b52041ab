-- Retention: what is deleted needs to be found, and what was judged before that is kept as the state
-- from which a recomputation can begin.

-- The last day on which a batch brought this content: unused ones are deleted.
ALTER TABLE flow ADD COLUMN used_on date NOT NULL DEFAULT current_date;
ALTER TABLE resolution ADD COLUMN used_on date NOT NULL DEFAULT current_date;
ALTER TABLE route ADD COLUMN used_on date NOT NULL DEFAULT current_date;
ALTER TABLE reading ADD COLUMN used_on date NOT NULL DEFAULT current_date;

CREATE INDEX finding_by_window ON finding USING brin (window_no);
CREATE INDEX batch_by_time ON batch USING brin (received_at);

-- What judgement remembered after a commit, at the beginning of each day by the clock of the log.
CREATE TABLE opening_state (
    day date PRIMARY KEY,
    commit_no bigint NOT NULL,
    engine integer NOT NULL,
    state bytea NOT NULL,
    events bytea NOT NULL
);
CREATE TABLE opening_window (
    day date NOT NULL REFERENCES opening_state ON DELETE CASCADE,
    path_id uuid NOT NULL,
    window_no bigint NOT NULL,
    source text NOT NULL,
    content bytea NOT NULL,
    PRIMARY KEY (day, path_id, window_no)
);

-- Size of the database over time, to tell how fast it grows.
CREATE TABLE database_size (
    at timestamptz PRIMARY KEY,
    bytes bigint NOT NULL
);

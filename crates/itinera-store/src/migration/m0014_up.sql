-- What judgement takes beside batches is in the log: the inventory where it has changed, and commits
-- that are tried again. What judgement remembers is kept by stages with a version each, as of a
-- checkpoint: what was judged after that is judged again, to the same end, when judgement continues.

ALTER TABLE log_clock ADD COLUMN inventory bytea, ADD COLUMN retries bigint;
CREATE INDEX log_clock_retries ON log_clock (retries) WHERE retries IS NOT NULL;

CREATE TABLE stage_state (
    stage text PRIMARY KEY,
    version integer NOT NULL,
    content bytea NOT NULL
);
ALTER TABLE judge DROP COLUMN book, DROP COLUMN events, DROP COLUMN engine,
    ADD COLUMN checkpoint bigint NOT NULL DEFAULT 0;
UPDATE judge SET checkpoint = cursor;
INSERT INTO judge (cursor) VALUES (0) ON CONFLICT DO NOTHING;
DELETE FROM path_window;

-- Opening states of the version before cannot be read by this one.
DROP TABLE opening_window, opening_state;
CREATE TABLE opening_state (
    day date PRIMARY KEY,
    commit_no bigint NOT NULL
);
CREATE TABLE opening_stage (
    day date NOT NULL REFERENCES opening_state ON DELETE CASCADE,
    stage text NOT NULL,
    version integer NOT NULL,
    content bytea NOT NULL,
    PRIMARY KEY (day, stage)
);
CREATE TABLE opening_window (
    day date NOT NULL REFERENCES opening_state ON DELETE CASCADE,
    path_id uuid NOT NULL,
    window_no bigint NOT NULL,
    source text NOT NULL,
    content bytea NOT NULL,
    PRIMARY KEY (day, path_id, window_no)
);

UPDATE meta SET min_reader = 3;

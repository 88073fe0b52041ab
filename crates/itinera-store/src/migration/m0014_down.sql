UPDATE meta SET min_reader = 2;
DROP TABLE opening_window, opening_stage, opening_state;
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
DELETE FROM path_window;
ALTER TABLE judge DROP COLUMN checkpoint, ADD COLUMN engine integer NOT NULL DEFAULT 0,
    ADD COLUMN book bytea NOT NULL DEFAULT '', ADD COLUMN events bytea NOT NULL DEFAULT '';
DELETE FROM judge WHERE cursor = 0;
DROP TABLE stage_state;
DELETE FROM log_clock WHERE inventory IS NOT NULL OR retries IS NOT NULL;
ALTER TABLE log_clock DROP COLUMN inventory, DROP COLUMN retries;

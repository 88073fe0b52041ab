-- Judgement remembers the windows of a minute of a path in one row. Rows that are there keep the place of
-- their windows: the windows are made again from evidence. A row is written again with each window that it
-- gets: with room in its page it needs no new entry in the index.
CREATE TABLE path_minute (
    path_id uuid NOT NULL,
    minute bigint NOT NULL,
    source text NOT NULL,
    content bytea NOT NULL,
    PRIMARY KEY (path_id, minute)
) WITH (fillfactor = 60);
INSERT INTO path_minute (path_id, minute, source, content)
    SELECT path_id, floor(window_no / 6.0)::bigint, max(source), '' FROM path_window GROUP BY 1, 2;
DROP TABLE path_window;
CREATE TABLE opening_minute (
    day date NOT NULL REFERENCES opening_state ON DELETE CASCADE,
    path_id uuid NOT NULL,
    minute bigint NOT NULL,
    source text NOT NULL,
    content bytea NOT NULL,
    PRIMARY KEY (day, path_id, minute)
);
INSERT INTO opening_minute (day, path_id, minute, source, content)
    SELECT day, path_id, floor(window_no / 6.0)::bigint, max(source), '' FROM opening_window
    GROUP BY 1, 2, 3;
DROP TABLE opening_window;

UPDATE meta SET min_reader = 8;

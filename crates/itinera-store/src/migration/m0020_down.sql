UPDATE meta SET min_reader = 7;
CREATE TABLE path_window (
    path_id uuid NOT NULL,
    window_no bigint NOT NULL,
    source text NOT NULL,
    content bytea NOT NULL,
    PRIMARY KEY (path_id, window_no)
);
INSERT INTO path_window (path_id, window_no, source, content)
    SELECT path_id, minute * 6 + place, source, '' FROM path_minute, generate_series(0, 5) place;
DROP TABLE path_minute;
CREATE TABLE opening_window (
    day date NOT NULL REFERENCES opening_state ON DELETE CASCADE,
    path_id uuid NOT NULL,
    window_no bigint NOT NULL,
    source text NOT NULL,
    content bytea NOT NULL,
    PRIMARY KEY (day, path_id, window_no)
);
INSERT INTO opening_window (day, path_id, window_no, source, content)
    SELECT day, path_id, minute * 6 + place, source, ''
    FROM opening_minute, generate_series(0, 5) place;
DROP TABLE opening_minute;

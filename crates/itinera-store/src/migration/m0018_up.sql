-- Rollups of pairs beside those of paths, and those of paths by route. Rows from before have route 0: the
-- routes are not told apart.
ALTER TABLE rollup RENAME COLUMN path_no TO subject_no;
ALTER TABLE rollup
    -- 0 of a path, 1 of a pair.
    ADD COLUMN kind smallint NOT NULL DEFAULT 0,
    ADD COLUMN route_no bigint NOT NULL DEFAULT 0;
ALTER TABLE rollup DROP CONSTRAINT rollup_pkey;
ALTER TABLE rollup ADD PRIMARY KEY (kind, subject_no, span_s, start_at, route_no);

UPDATE meta SET min_reader = 6;

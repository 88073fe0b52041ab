UPDATE meta SET min_reader = 5;
DELETE FROM rollup WHERE kind <> 0 OR route_no <> 0;
ALTER TABLE rollup DROP CONSTRAINT rollup_pkey;
ALTER TABLE rollup DROP COLUMN kind, DROP COLUMN route_no;
ALTER TABLE rollup RENAME COLUMN subject_no TO path_no;
ALTER TABLE rollup ADD PRIMARY KEY (path_no, span_s, start_at);

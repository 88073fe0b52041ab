-- Live rounds are lost to an earlier version.
UPDATE meta SET min_reader = 6;
TRUNCATE round;
DROP INDEX round_by_path;
ALTER TABLE round
    DROP COLUMN content,
    ADD COLUMN number bigint NOT NULL,
    ADD COLUMN tick_ns bigint NOT NULL,
    ADD COLUMN wall_us bigint NOT NULL,
    ADD COLUMN offset_us bigint,
    ADD COLUMN offset_error_us bigint,
    ADD COLUMN flow_no bigint NOT NULL,
    ADD COLUMN resolution_no bigint NOT NULL,
    ADD COLUMN route_no bigint NOT NULL,
    ADD COLUMN reached_at smallint,
    ADD COLUMN stamps smallint NOT NULL,
    ADD COLUMN hops bytea NOT NULL,
    ADD COLUMN reading_no bigint,
    ADD COLUMN timer_late_us integer,
    ADD COLUMN read_late_us integer,
    ADD COLUMN link_late_us integer;
CREATE INDEX round_by_path ON round (path_no, received_at);

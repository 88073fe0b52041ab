-- A live round is one packed column beside what it is looked for by. Rows that are there are rewritten in
-- the wide form of that column.
ALTER TABLE round ADD COLUMN content bytea;
UPDATE round SET content = '\x80'::bytea || int8send(number) || int8send(tick_ns) || int8send(wall_us)
    || int8send(flow_no) || int8send(resolution_no) || int8send(route_no) || int8send(stamps)
    || int8send(coalesce(offset_us, '-9223372036854775808'::bigint))
    || int8send(coalesce(offset_error_us, '-9223372036854775808'::bigint))
    || int8send(coalesce(reading_no, '-9223372036854775808'::bigint))
    || int8send(coalesce(reached_at, '-9223372036854775808'::bigint))
    || int8send(coalesce(timer_late_us, '-9223372036854775808'::bigint))
    || int8send(coalesce(read_late_us, '-9223372036854775808'::bigint))
    || int8send(coalesce(link_late_us, '-9223372036854775808'::bigint))
    || hops;
ALTER TABLE round
    ALTER COLUMN content SET NOT NULL,
    DROP COLUMN number, DROP COLUMN tick_ns, DROP COLUMN wall_us, DROP COLUMN offset_us,
    DROP COLUMN offset_error_us, DROP COLUMN flow_no, DROP COLUMN resolution_no, DROP COLUMN route_no,
    DROP COLUMN reading_no, DROP COLUMN reached_at, DROP COLUMN stamps, DROP COLUMN timer_late_us,
    DROP COLUMN read_late_us, DROP COLUMN link_late_us, DROP COLUMN hops;
-- Rounds of a path within ten minutes share an entry.
DROP INDEX round_by_path;
CREATE INDEX round_by_path ON round (path_no, date_bin('10 minutes', received_at, 'epoch'));

UPDATE meta SET min_reader = 7;

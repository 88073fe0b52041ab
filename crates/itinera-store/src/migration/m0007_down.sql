ALTER TABLE site
    DROP COLUMN reached_at,
    DROP COLUMN paired_with;
ALTER TABLE agent
    DROP COLUMN moves,
    DROP COLUMN moves_since;
DROP TABLE set_aside;
ALTER TABLE batch DROP COLUMN clock_at;
ALTER TABLE meta
    DROP COLUMN last_received_at,
    DROP COLUMN rounds;
ALTER TABLE round
    DROP COLUMN timer_late_us,
    DROP COLUMN read_late_us,
    DROP COLUMN link_late_us;

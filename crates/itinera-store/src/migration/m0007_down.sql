ALTER TABLE round
    DROP COLUMN timer_late_us,
    DROP COLUMN read_late_us,
    DROP COLUMN link_late_us;

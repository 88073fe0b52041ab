-- How late the agent's own program was in a round, in microseconds.
ALTER TABLE round
    ADD COLUMN timer_late_us integer,
    ADD COLUMN read_late_us integer,
    ADD COLUMN link_late_us integer;

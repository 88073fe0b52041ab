-- How late the agent's own program was in a round, in microseconds.
ALTER TABLE round
    ADD COLUMN timer_late_us integer,
    ADD COLUMN read_late_us integer,
    ADD COLUMN link_late_us integer;

-- The log's own clock, which never runs backwards, and the number of rounds, counted where the head
-- of the log is held.
ALTER TABLE meta
    ADD COLUMN last_received_at timestamptz NOT NULL DEFAULT '-infinity',
    ADD COLUMN rounds bigint NOT NULL DEFAULT 0;
UPDATE meta SET
    last_received_at = coalesce((SELECT max(received_at) FROM batch), '-infinity'),
    rounds = (SELECT coalesce(sum(rounds), 0) FROM batch);
-- What the service's clock said at the time; absent from before, and from programs of then.
ALTER TABLE batch ADD COLUMN clock_at timestamptz;
-- Its size unpacked, by which steps of judgement are bounded.
ALTER TABLE batch ADD COLUMN bytes bigint NOT NULL DEFAULT 0;

-- Commits that judgement fails on, with the error: they are left out until a command tries again.
CREATE TABLE set_aside (
    commit_no bigint PRIMARY KEY,
    at timestamptz NOT NULL,
    engine integer NOT NULL,
    error text NOT NULL,
    retry boolean NOT NULL DEFAULT false
);

-- Few of all incidents are open.
CREATE INDEX incident_open ON incident (opened_at) WHERE closed_at IS NULL;

-- How often an agent's addresses have changed lately: each change wakes others.
ALTER TABLE agent
    ADD COLUMN moves integer NOT NULL DEFAULT 0,
    ADD COLUMN moves_since timestamptz NOT NULL DEFAULT '-infinity';

-- Where other agents reach the agents of a site, by configuration.
ALTER TABLE site
    ADD COLUMN reached_at jsonb NOT NULL DEFAULT '[]',
    ADD COLUMN paired_with jsonb NOT NULL DEFAULT '[]';

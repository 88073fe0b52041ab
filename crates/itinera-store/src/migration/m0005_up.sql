-- What services are asked. Rows are never deleted: those that are not asked any more are inactive.
ALTER TABLE target ADD COLUMN checks jsonb NOT NULL DEFAULT '[]';
-- The way that is meant to be taken to a target.
ALTER TABLE target ADD COLUMN intended jsonb;
CREATE TABLE check_task (
    id uuid PRIMARY KEY,
    no integer GENERATED ALWAYS AS IDENTITY UNIQUE,
    agent_id uuid NOT NULL REFERENCES agent,
    target_id uuid NOT NULL REFERENCES target,
    family text NOT NULL,
    -- Identity of the question by its content.
    content bytea NOT NULL,
    body jsonb NOT NULL,
    active boolean NOT NULL,
    -- How often somebody wanted it at once.
    wanted integer NOT NULL DEFAULT 0,
    UNIQUE (agent_id, target_id, family, content)
);
CREATE TABLE check_round (
    received_at timestamptz NOT NULL,
    commit_no bigint NOT NULL,
    check_no integer NOT NULL,
    number bigint NOT NULL,
    body bytea NOT NULL
) PARTITION BY RANGE (received_at);
CREATE INDEX check_round_by_check ON check_round (check_no, received_at);

-- What agents find around them.
CREATE TABLE around_round (
    received_at timestamptz NOT NULL,
    commit_no bigint NOT NULL,
    agent_no integer NOT NULL,
    body bytea NOT NULL
) PARTITION BY RANGE (received_at);
CREATE INDEX around_round_by_agent ON around_round (agent_no, received_at);

-- What happened: for a moment, or lasting.
CREATE TABLE event (
    id uuid PRIMARY KEY,
    no bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
    key jsonb NOT NULL,
    body jsonb NOT NULL,
    agent_id uuid NOT NULL,
    raised_at timestamptz NOT NULL,
    -- Absent while it lasts; the time itself for what is a moment.
    ended_at timestamptz,
    incident_id uuid REFERENCES incident
);
CREATE INDEX event_lasting ON event (key) WHERE ended_at IS NULL;
CREATE INDEX event_by_time ON event (raised_at);
CREATE INDEX event_by_incident ON event (incident_id) WHERE incident_id IS NOT NULL;

-- Looks outward from an agent, asked for by somebody.
CREATE TABLE outward (
    id uuid PRIMARY KEY,
    no bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
    agent_id uuid NOT NULL REFERENCES agent,
    body jsonb NOT NULL,
    person text NOT NULL,
    asked_at timestamptz NOT NULL,
    not_after timestamptz NOT NULL,
    incident_id uuid REFERENCES incident,
    -- How far it is, in the agent's own words; what it saw is kept as octets.
    progress jsonb,
    observed bytea,
    done_at timestamptz
);

-- Measurements of how much gets through between two agents.
CREATE TABLE throughput (
    id uuid PRIMARY KEY,
    no bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
    sender_id uuid NOT NULL REFERENCES agent,
    receiver_id uuid NOT NULL REFERENCES agent,
    body jsonb NOT NULL,
    person text,
    asked_at timestamptz NOT NULL,
    not_after timestamptz NOT NULL,
    commit_no bigint,
    result bytea,
    done_at timestamptz
);
CREATE INDEX throughput_by_commit ON throughput (commit_no) WHERE commit_no IS NOT NULL;

-- Until when a pair is a voice-like stream, because somebody wants to know.
ALTER TABLE pair ADD COLUMN voice_until timestamptz;

-- The memory of what watches for events; an older program goes on without it.
ALTER TABLE judge ADD COLUMN events bytea NOT NULL DEFAULT ''::bytea;

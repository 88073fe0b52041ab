-- Where other agents can reach an agent, by its own word.
ALTER TABLE agent ADD COLUMN addresses jsonb NOT NULL DEFAULT '[]';

-- A target's name, which agents resolve themselves.
ALTER TABLE target ADD COLUMN host text;

-- Agents that measure both ways between them. Rows are never deleted: those that are over are
-- inactive.
CREATE TABLE pair (
    id uuid PRIMARY KEY,
    no integer GENERATED ALWAYS AS IDENTITY UNIQUE,
    sender_id uuid NOT NULL REFERENCES agent,
    reflector_id uuid NOT NULL REFERENCES agent,
    family text NOT NULL,
    sender_address text NOT NULL,
    reflector_address text NOT NULL,
    is_hidden boolean NOT NULL,
    active boolean NOT NULL,
    UNIQUE (sender_id, reflector_id, family)
);
CREATE TABLE two_way_round (
    received_at timestamptz NOT NULL,
    commit_no bigint NOT NULL,
    pair_no integer NOT NULL,
    number bigint NOT NULL,
    body bytea NOT NULL
) PARTITION BY RANGE (received_at);
CREATE INDEX two_way_round_by_pair ON two_way_round (pair_no, received_at);

-- Paths that are measured more densely for a while, kept as records of that while.
CREATE TABLE watch (
    id uuid PRIMARY KEY,
    no bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
    path_id uuid NOT NULL REFERENCES path,
    interval_ms integer NOT NULL,
    begins_at timestamptz NOT NULL,
    ends_at timestamptz NOT NULL,
    reason text NOT NULL,
    person text NOT NULL,
    -- Pauses as [{"from": …, "until": …}], the last one without an end while it lasts.
    pauses jsonb NOT NULL DEFAULT '[]',
    incident_id uuid REFERENCES incident,
    -- What was found, once it is over: it outlives the rounds.
    summary jsonb
);
CREATE INDEX watch_unfinished ON watch (ends_at) WHERE summary IS NULL;

-- Whiles in which paths are not measured on purpose.
CREATE TABLE suppression (
    id uuid PRIMARY KEY,
    no bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
    -- Sites and targets meant; all where absent.
    site text,
    target text,
    from_at timestamptz NOT NULL,
    until_at timestamptz NOT NULL,
    reason text NOT NULL,
    person text NOT NULL
);

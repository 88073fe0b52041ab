-- One row: who may read this record, and the head of the log of commits.
CREATE TABLE meta (
    one_row boolean PRIMARY KEY DEFAULT true CHECK (one_row),
    min_reader integer NOT NULL,
    log_head bigint NOT NULL
);
INSERT INTO meta (min_reader, log_head) VALUES (1, 0);

-- What is watched. Rows are never deleted: what is no longer configured is inactive.
CREATE TABLE site (
    id uuid PRIMARY KEY,
    name text NOT NULL UNIQUE,
    active boolean NOT NULL
);
CREATE TABLE target (
    id uuid PRIMARY KEY,
    name text NOT NULL UNIQUE,
    address text NOT NULL,
    methods jsonb NOT NULL,
    active boolean NOT NULL
);
CREATE TABLE schedule (
    version bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    body jsonb NOT NULL,
    valid_from timestamptz NOT NULL
);

CREATE TABLE agent (
    id uuid PRIMARY KEY,
    no integer GENERATED ALWAYS AS IDENTITY UNIQUE,
    site_id uuid NOT NULL REFERENCES site,
    certificate_sha256 bytea NOT NULL UNIQUE,
    version text NOT NULL,
    joined_at timestamptz NOT NULL,
    last_batch_at timestamptz,
    clock_offset_us bigint,
    clock_error_us bigint,
    dropped_rounds bigint NOT NULL DEFAULT 0
);
CREATE TABLE join_code (
    secret_sha256 bytea PRIMARY KEY,
    site_id uuid NOT NULL REFERENCES site,
    created_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    used_at timestamptz
);

-- Intent.
CREATE TABLE path (
    id uuid PRIMARY KEY,
    no integer GENERATED ALWAYS AS IDENTITY UNIQUE,
    agent_id uuid NOT NULL REFERENCES agent,
    uplink text NOT NULL,
    target_id uuid NOT NULL REFERENCES target,
    family text NOT NULL,
    method text NOT NULL,
    dscp smallint NOT NULL,
    size_bytes integer NOT NULL,
    direction text NOT NULL,
    UNIQUE (agent_id, uplink, target_id, family, method, dscp, size_bytes, direction)
);

-- What rounds refer to, each identified by its content.
CREATE TABLE flow (
    no bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    content bytea NOT NULL UNIQUE,
    body jsonb NOT NULL
);
CREATE TABLE resolution (
    no bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    content bytea NOT NULL UNIQUE,
    body jsonb NOT NULL
);
CREATE TABLE route (
    no bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    content bytea NOT NULL UNIQUE,
    body jsonb NOT NULL
);

-- The log of commits. Not partitioned, so that a batch is known for ever.
CREATE TABLE batch (
    agent_no integer NOT NULL,
    boot uuid NOT NULL,
    seq bigint NOT NULL,
    commit_no bigint NOT NULL UNIQUE,
    received_at timestamptz NOT NULL,
    rounds integer NOT NULL,
    refused integer NOT NULL,
    PRIMARY KEY (agent_no, boot, seq)
);

-- One packed row per round, by day of receipt. Clocks are the agent's own, as plain numbers:
-- they may say 1970 or 2106 without touching the order of the record.
CREATE TABLE round (
    received_at timestamptz NOT NULL,
    commit_no bigint NOT NULL,
    path_no integer NOT NULL,
    number bigint NOT NULL,
    tick_ns bigint NOT NULL,
    wall_us bigint NOT NULL,
    offset_us bigint,
    offset_error_us bigint,
    flow_no bigint NOT NULL,
    resolution_no bigint NOT NULL,
    route_no bigint NOT NULL,
    reached_at smallint,
    stamps smallint NOT NULL,
    hops bytea NOT NULL
) PARTITION BY RANGE (received_at);
CREATE INDEX round_by_path ON round (path_no, received_at);
CREATE INDEX round_by_commit ON round USING brin (commit_no) WITH (pages_per_range = 32, autosummarize = on);

-- Judgement: its memory, what it said, and who leads it.
CREATE TABLE judge (
    one_row boolean PRIMARY KEY DEFAULT true CHECK (one_row),
    cursor bigint NOT NULL,
    engine integer NOT NULL,
    book bytea NOT NULL
);
CREATE TABLE lease (
    name text PRIMARY KEY,
    token bigint NOT NULL,
    holder uuid,
    expires_at timestamptz NOT NULL
);
INSERT INTO lease (name, token, expires_at) VALUES ('judge', 0, '-infinity');
CREATE TABLE path_window (
    path_id uuid NOT NULL,
    window_no bigint NOT NULL,
    source text NOT NULL,
    content bytea NOT NULL,
    PRIMARY KEY (path_id, window_no)
);
CREATE TABLE path_latest (
    path_id uuid PRIMARY KEY,
    window_no bigint NOT NULL,
    body jsonb NOT NULL
);
CREATE TABLE finding (
    path_id uuid NOT NULL,
    window_no bigint NOT NULL,
    body jsonb NOT NULL,
    PRIMARY KEY (path_id, window_no)
);
CREATE TABLE alarm (
    id uuid PRIMARY KEY,
    key jsonb NOT NULL,
    body jsonb NOT NULL,
    raised_at timestamptz NOT NULL,
    cleared_at timestamptz
);
CREATE UNIQUE INDEX alarm_open ON alarm (key) WHERE cleared_at IS NULL;
CREATE INDEX alarm_by_time ON alarm (raised_at DESC, id DESC);

-- Owner maps, each valid from its import (or an earlier time said with it) to the next.
CREATE TABLE owner_import (
    id uuid PRIMARY KEY,
    imported_at timestamptz NOT NULL,
    valid_from timestamptz NOT NULL,
    source text NOT NULL,
    sha256 bytea NOT NULL,
    entries integer NOT NULL
);
CREATE TABLE owner_entry (
    import_id uuid NOT NULL REFERENCES owner_import,
    prefix text NOT NULL,
    as_number bigint NOT NULL,
    owner text NOT NULL,
    contact text NOT NULL,
    PRIMARY KEY (import_id, prefix)
);

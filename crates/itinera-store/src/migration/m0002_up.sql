-- Both versions of IP, and services made of targets. An older program goes on writing `address`
-- alone: where `addresses` is empty, that is the only one.
ALTER TABLE site ADD COLUMN families jsonb NOT NULL DEFAULT '["ipv4"]';
ALTER TABLE target ADD COLUMN addresses jsonb NOT NULL DEFAULT '[]';
ALTER TABLE target ADD COLUMN service text NOT NULL DEFAULT '';

-- The run that an agent's count of dropped rounds is of.
ALTER TABLE agent ADD COLUMN boot uuid;

-- People, how they come in, and what they changed.
CREATE TABLE person (
    id uuid PRIMARY KEY,
    name text NOT NULL UNIQUE,
    role text NOT NULL CHECK (role IN ('viewer', 'analyst', 'administrator')),
    password text NOT NULL,
    active boolean NOT NULL,
    created_at timestamptz NOT NULL
);
CREATE TABLE session (
    secret_sha256 bytea PRIMARY KEY,
    person_id uuid NOT NULL REFERENCES person,
    csrf text NOT NULL,
    created_at timestamptz NOT NULL,
    seen_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL
);
CREATE INDEX session_by_person ON session (person_id);
CREATE TABLE api_token (
    id uuid PRIMARY KEY,
    person_id uuid NOT NULL REFERENCES person,
    name text NOT NULL,
    role text NOT NULL CHECK (role IN ('viewer', 'analyst', 'administrator')),
    secret_sha256 bytea NOT NULL UNIQUE,
    created_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    used_at timestamptz,
    revoked_at timestamptz
);
CREATE INDEX api_token_by_person ON api_token (person_id);
CREATE TABLE audit (
    no bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at timestamptz NOT NULL,
    person text NOT NULL,
    action text NOT NULL,
    object text NOT NULL,
    detail jsonb NOT NULL
);

-- Incidents: alarms of one cause, or a complaint, reviewed together.
CREATE TABLE incident (
    id uuid PRIMARY KEY,
    no bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
    opened_at timestamptz NOT NULL,
    closed_at timestamptz,
    complaint jsonb,
    evidence jsonb
);
CREATE INDEX incident_by_time ON incident (opened_at DESC, id DESC);
ALTER TABLE alarm ADD COLUMN incident_id uuid REFERENCES incident;
CREATE INDEX alarm_by_incident ON alarm (incident_id);
CREATE TABLE incident_event (
    id uuid PRIMARY KEY,
    incident_id uuid NOT NULL REFERENCES incident,
    at timestamptz NOT NULL,
    person text NOT NULL,
    kind text NOT NULL,
    body jsonb NOT NULL
);
CREATE INDEX incident_event_by_time ON incident_event (incident_id, at, id);

-- News for those who look: numbered without gaps in the order of commits, because whoever adds
-- to it holds the head until it commits.
CREATE TABLE outbox_head (
    one_row boolean PRIMARY KEY DEFAULT true CHECK (one_row),
    no bigint NOT NULL
);
INSERT INTO outbox_head (no) VALUES (0);
CREATE TABLE outbox (
    no bigint PRIMARY KEY,
    at timestamptz NOT NULL,
    topic text NOT NULL,
    body jsonb NOT NULL
);

-- Where notices go.
CREATE TABLE receiver (
    id uuid PRIMARY KEY,
    name text NOT NULL,
    content jsonb NOT NULL,
    secret text,
    made_at timestamptz NOT NULL,
    made_by text NOT NULL,
    removed_at timestamptz
);
CREATE UNIQUE INDEX receiver_by_name ON receiver (name) WHERE removed_at IS NULL;

-- The outbox: a notice is written in the transaction that changes the alarms. It is composed when due, and
-- then has a delivery for each receiver that takes it.
CREATE TABLE notice (
    id uuid PRIMARY KEY,
    no bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
    incident_id uuid REFERENCES incident ON DELETE CASCADE,
    receiver_id uuid REFERENCES receiver,
    kind text NOT NULL,
    at timestamptz NOT NULL,
    due_at timestamptz NOT NULL,
    composed_at timestamptz,
    severity text,
    content jsonb
);
CREATE INDEX notice_due ON notice (due_at) WHERE composed_at IS NULL;
CREATE INDEX notice_by_incident ON notice (incident_id);

CREATE TABLE delivery (
    id uuid PRIMARY KEY,
    notice_id uuid NOT NULL REFERENCES notice ON DELETE CASCADE,
    receiver_id uuid NOT NULL REFERENCES receiver,
    state text NOT NULL,
    attempts integer NOT NULL DEFAULT 0,
    next_at timestamptz NOT NULL,
    claimed_until timestamptz NOT NULL DEFAULT '-infinity',
    ended_at timestamptz,
    reason text,
    answer text,
    UNIQUE (notice_id, receiver_id)
);
CREATE INDEX delivery_waiting ON delivery (next_at) WHERE state = 'waiting';
CREATE INDEX delivery_failed ON delivery (ended_at) WHERE state = 'failed';
CREATE INDEX delivery_by_receiver ON delivery (receiver_id, ended_at);

-- What notices have said of an incident: the highest severity, and whether it has cleared since.
ALTER TABLE incident ADD COLUMN said_severity text;
ALTER TABLE incident ADD COLUMN said_cleared boolean NOT NULL DEFAULT false;

-- Groups of sites and services, as configured.
CREATE TABLE tag (
    tag text NOT NULL,
    kind text NOT NULL,
    name text NOT NULL,
    PRIMARY KEY (kind, name, tag)
);

-- The provider that a site pays, as configured.
CREATE TABLE contract (
    site text PRIMARY KEY,
    holder text NOT NULL,
    contact text NOT NULL
);

-- Calendars of planned work, the occurrences of their events, and the alarms that these explained.
CREATE TABLE calendar (
    id uuid PRIMARY KEY,
    name text NOT NULL UNIQUE,
    url text,
    site text,
    owner bigint,
    zone text NOT NULL,
    content text NOT NULL,
    fetched_at timestamptz NOT NULL,
    next_at timestamptz NOT NULL,
    error text,
    saved_by text NOT NULL
);
CREATE TABLE planned_work (
    calendar_id uuid NOT NULL REFERENCES calendar ON DELETE CASCADE,
    uid text NOT NULL,
    starts_at timestamptz NOT NULL,
    ends_at timestamptz NOT NULL,
    summary text NOT NULL,
    sites text[] NOT NULL,
    owners bigint[] NOT NULL,
    PRIMARY KEY (calendar_id, uid, starts_at)
);
CREATE INDEX planned_work_by_end ON planned_work (ends_at);
CREATE TABLE explained_alarm (
    calendar_id uuid NOT NULL REFERENCES calendar ON DELETE CASCADE,
    uid text NOT NULL,
    starts_at timestamptz NOT NULL,
    alarm_id uuid NOT NULL REFERENCES alarm ON DELETE CASCADE,
    at timestamptz NOT NULL,
    PRIMARY KEY (calendar_id, uid, starts_at, alarm_id)
);

-- Earlier alarms of the same key. A key may hold long foreign text, which no index entry takes.
CREATE INDEX alarm_by_key ON alarm (md5(key::text), raised_at);

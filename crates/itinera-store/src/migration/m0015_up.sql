-- Alarms of paths and events of agents, checks and routes are rows of one table, with the history of
-- their states. An event without severity is no alarm, and only to be known.

CREATE SEQUENCE alarm_numbers OWNED BY alarm.no;
SELECT setval('alarm_numbers', coalesce(max(no), 1), max(no) IS NOT NULL) FROM
    (SELECT no FROM alarm UNION ALL SELECT no FROM event) t;
ALTER TABLE alarm
    ALTER COLUMN no SET DEFAULT nextval('alarm_numbers'),
    ADD COLUMN class text NOT NULL DEFAULT 'path' CHECK (class IN ('path', 'event')),
    ADD COLUMN severity text,
    ADD COLUMN agent_id uuid;
ALTER TABLE alarm ALTER COLUMN class DROP DEFAULT;
UPDATE alarm SET severity = body->>'severity';
INSERT INTO alarm (id, no, class, key, body, severity, agent_id, raised_at, cleared_at, incident_id)
    SELECT id, no, 'event', key, body, body->>'severity', agent_id, raised_at, ended_at, incident_id
    FROM event;
DROP TABLE event;
DROP INDEX alarm_open;
CREATE UNIQUE INDEX alarm_open ON alarm (key) WHERE cleared_at IS NULL AND class = 'path';
CREATE INDEX event_open ON alarm (key) WHERE cleared_at IS NULL AND class = 'event';
CREATE INDEX alarm_by_cleared ON alarm (cleared_at) WHERE incident_id IS NULL;

-- The newest judgement of each path, compressed, with what is searched for.
DROP TABLE path_latest;
CREATE TABLE path_latest (
    path_id uuid PRIMARY KEY,
    window_no bigint NOT NULL,
    -- Of its finding; absent without one.
    confidence_ppm integer,
    content bytea NOT NULL
);

CREATE TABLE alarm_state (
    alarm_id uuid NOT NULL REFERENCES alarm ON DELETE CASCADE,
    no integer NOT NULL,
    at timestamptz NOT NULL,
    state text NOT NULL,
    severity text,
    PRIMARY KEY (alarm_id, no)
);
INSERT INTO alarm_state (alarm_id, no, at, state, severity)
    SELECT id, 1, raised_at, CASE WHEN cleared_at <= raised_at THEN 'cleared' ELSE 'open' END, severity
    FROM alarm;
INSERT INTO alarm_state (alarm_id, no, at, state, severity)
    SELECT id, 2, cleared_at, 'cleared', severity FROM alarm WHERE cleared_at > raised_at;

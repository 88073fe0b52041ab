-- Several rows can be one alarm: events of one cause in one incident. Its root is the row that came first.
ALTER TABLE alarm ADD COLUMN root_id uuid;
UPDATE alarm SET root_id = id;
UPDATE alarm e SET root_id = f.root
FROM (
    SELECT incident_id, body->>'group' AS cause, (array_agg(id ORDER BY id))[1] AS root
    FROM alarm WHERE class = 'event' AND severity IS NOT NULL AND incident_id IS NOT NULL
    GROUP BY 1, 2
) f
WHERE e.class = 'event' AND e.severity IS NOT NULL AND e.incident_id = f.incident_id
    AND e.body->>'group' = f.cause;
ALTER TABLE alarm ALTER COLUMN root_id SET NOT NULL;
CREATE INDEX alarm_by_root ON alarm (root_id);

-- What operators do with alarms, by root: how each stands now, and every action.
CREATE TABLE alarm_operator (
    alarm_id uuid PRIMARY KEY REFERENCES alarm ON DELETE CASCADE,
    acknowledged_at timestamptz,
    acknowledged_by text,
    assignee_id uuid REFERENCES user_account,
    shelved_until timestamptz,
    shelved_by text,
    shelve_reason text,
    closed_at timestamptz,
    closed_by text
);
CREATE TABLE alarm_action (
    alarm_id uuid NOT NULL REFERENCES alarm ON DELETE CASCADE,
    no integer NOT NULL,
    at timestamptz NOT NULL,
    user_name text NOT NULL,
    action text NOT NULL,
    detail jsonb NOT NULL,
    PRIMARY KEY (alarm_id, no)
);

UPDATE meta SET min_reader = 9;

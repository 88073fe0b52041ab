-- Events and the evidence of complaints hold a message with a code; kinds of event have the same
-- codes.
UPDATE event
    SET key = jsonb_set(key, '{kind}', to_jsonb(code.after)),
        body = jsonb_set(body, '{key,kind}', to_jsonb(code.after))
    FROM (VALUES ('misfit', 'check-mismatch'),
    ('name-fails', 'name-unresolved'),
    ('names-disagree', 'dns-disagree'),
    ('name-stale', 'dns-stale'),
    ('service-fails', 'service-failed'),
    ('large-lost', 'mtu-black-hole'),
    ('limit-missed', 'throughput-low'),
    ('frames-damaged', 'receive-errors'),
    ('line-full', 'link-saturated'),
    ('not-as-intended', 'route-not-intended')) AS code (before, after)
    WHERE key->>'kind' = code.before;
UPDATE event
    SET body = (body - 'words') || jsonb_build_object('message', jsonb_build_object(
        'code', 'recorded', 'parameters', jsonb_build_object('words', body->'words')))
    WHERE body ? 'words';
UPDATE incident
    SET evidence = (evidence - 'sentences' - 'cause') || jsonb_build_object('message',
        jsonb_build_object('code', 'recorded', 'parameters', jsonb_build_object('words',
            array_to_string(ARRAY(SELECT jsonb_array_elements_text(evidence->'sentences')), ' '))))
    WHERE evidence ? 'sentences';

-- Alarms have a short number, of one series with events: both are shown in one list.
ALTER TABLE alarm
    ADD COLUMN no bigint NOT NULL DEFAULT nextval(pg_get_serial_sequence('event', 'no'));
CREATE UNIQUE INDEX alarm_no ON alarm (no);

ALTER TABLE alarm DROP COLUMN no;
UPDATE incident
    SET evidence = (evidence - 'message') || jsonb_build_object('cause', 'not-measured',
        'sentences', jsonb_build_array(coalesce(evidence#>>'{message,parameters,words}', '')))
    WHERE evidence ? 'message';
UPDATE event
    SET body = (body - 'message')
        || jsonb_build_object('words', coalesce(body#>>'{message,parameters,words}', ''))
    WHERE body ? 'message';
UPDATE event
    SET key = jsonb_set(key, '{kind}', to_jsonb(code.before)),
        body = jsonb_set(body, '{key,kind}', to_jsonb(code.before))
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
    WHERE key->>'kind' = code.after;

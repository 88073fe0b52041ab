-- One vocabulary: users, diagnoses, host facts, change feed.
ALTER TABLE person RENAME TO user_account;
ALTER TABLE session RENAME COLUMN person_id TO user_id;
ALTER INDEX session_by_person RENAME TO session_by_user;
ALTER TABLE api_token RENAME COLUMN person_id TO user_id;
ALTER INDEX api_token_by_person RENAME TO api_token_by_user;
ALTER TABLE audit RENAME COLUMN person TO user_name;
ALTER TABLE incident_event RENAME COLUMN person TO user_name;
ALTER TABLE suppression RENAME COLUMN person TO user_name;
ALTER TABLE throughput RENAME COLUMN person TO user_name;
ALTER TABLE watch RENAME COLUMN person TO user_name;
ALTER TABLE outward RENAME COLUMN person TO user_name;
ALTER TABLE outward RENAME TO diagnosis;
ALTER TABLE outbox RENAME TO change_feed;
ALTER TABLE outbox_head RENAME TO change_feed_head;

-- Partitions are found by name.
ALTER TABLE around_round RENAME TO host_facts_round;
ALTER INDEX around_round_by_agent RENAME TO host_facts_round_by_agent;
DO $$
DECLARE part record;
BEGIN
    FOR part IN SELECT c.relname AS name FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid
        WHERE i.inhparent = 'host_facts_round'::regclass
    LOOP
        EXECUTE format('ALTER TABLE %I RENAME TO %I', part.name,
            replace(part.name, 'around_round', 'host_facts_round'));
    END LOOP;
END $$;

UPDATE audit SET action = replace(replace(action, 'person-', 'user-'), 'look-asked', 'diagnosis-started')
    WHERE action ~ '^person-|^look-asked$';
UPDATE incident_event
    SET kind = 'diagnosis-started', body = jsonb_build_object('diagnosis', body->'outward')
    WHERE kind = 'outward-asked';
UPDATE incident
    SET complaint = (complaint - 'person') || jsonb_build_object('user', complaint->'person')
    WHERE complaint ? 'person';
UPDATE change_feed SET topic = 'diagnosis' WHERE topic = 'outward';
UPDATE schedule
    SET body = (body - 'surroundings_every_s')
        || jsonb_build_object('host_facts_every_s', body->'surroundings_every_s')
    WHERE body ? 'surroundings_every_s';
UPDATE event
    SET key = replace(key::text, '"surroundings-changed"', '"host-facts-changed"')::jsonb,
        body = replace(body::text, '"surroundings-changed"', '"host-facts-changed"')::jsonb
    WHERE key->>'kind' = 'surroundings-changed';
UPDATE path_latest SET body = replace(body::text, '"polices"', '"rate-limits"')::jsonb
    WHERE body::text LIKE '%"polices"%';

-- Programs of before know none of these names.
UPDATE meta SET min_reader = 2;

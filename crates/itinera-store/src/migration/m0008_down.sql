UPDATE meta SET min_reader = 1;
UPDATE path_latest SET body = replace(body::text, '"rate-limits"', '"polices"')::jsonb
    WHERE body::text LIKE '%"rate-limits"%';
UPDATE event
    SET key = replace(key::text, '"host-facts-changed"', '"surroundings-changed"')::jsonb,
        body = replace(body::text, '"host-facts-changed"', '"surroundings-changed"')::jsonb
    WHERE key->>'kind' = 'host-facts-changed';
UPDATE schedule
    SET body = (body - 'host_facts_every_s')
        || jsonb_build_object('surroundings_every_s', body->'host_facts_every_s')
    WHERE body ? 'host_facts_every_s';
UPDATE change_feed SET topic = 'outward' WHERE topic = 'diagnosis';
UPDATE incident
    SET complaint = (complaint - 'user') || jsonb_build_object('person', complaint->'user')
    WHERE complaint ? 'user';
UPDATE incident_event
    SET kind = 'outward-asked', body = jsonb_build_object('outward', body->'diagnosis')
    WHERE kind = 'diagnosis-started';
UPDATE audit SET action = replace(replace(action, 'user-', 'person-'), 'diagnosis-started', 'look-asked')
    WHERE action ~ '^user-|^diagnosis-started$';
DO $$
DECLARE part record;
BEGIN
    FOR part IN SELECT c.relname AS name FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid
        WHERE i.inhparent = 'host_facts_round'::regclass
    LOOP
        EXECUTE format('ALTER TABLE %I RENAME TO %I', part.name,
            replace(part.name, 'host_facts_round', 'around_round'));
    END LOOP;
END $$;
ALTER INDEX host_facts_round_by_agent RENAME TO around_round_by_agent;
ALTER TABLE host_facts_round RENAME TO around_round;
ALTER TABLE change_feed_head RENAME TO outbox_head;
ALTER TABLE change_feed RENAME TO outbox;
ALTER TABLE diagnosis RENAME TO outward;
ALTER TABLE outward RENAME COLUMN user_name TO person;
ALTER TABLE watch RENAME COLUMN user_name TO person;
ALTER TABLE throughput RENAME COLUMN user_name TO person;
ALTER TABLE suppression RENAME COLUMN user_name TO person;
ALTER TABLE incident_event RENAME COLUMN user_name TO person;
ALTER TABLE audit RENAME COLUMN user_name TO person;
ALTER INDEX api_token_by_user RENAME TO api_token_by_person;
ALTER TABLE api_token RENAME COLUMN user_id TO person_id;
ALTER INDEX session_by_user RENAME TO session_by_person;
ALTER TABLE session RENAME COLUMN user_id TO person_id;
ALTER TABLE user_account RENAME TO person;

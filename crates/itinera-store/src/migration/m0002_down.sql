DROP TABLE outbox, outbox_head, incident_event;
ALTER TABLE alarm DROP COLUMN incident_id;
DROP TABLE incident, audit, api_token, session, person;
ALTER TABLE agent DROP COLUMN boot;
ALTER TABLE target DROP COLUMN service, DROP COLUMN addresses;
ALTER TABLE site DROP COLUMN families;

DROP TABLE alarm_action, alarm_operator;
ALTER TABLE alarm DROP COLUMN root_id;

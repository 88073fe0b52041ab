DROP INDEX alarm_by_key;
DROP TABLE explained_alarm, planned_work, calendar, contract, tag, delivery, notice, receiver;
ALTER TABLE incident DROP COLUMN said_severity, DROP COLUMN said_cleared;

DROP INDEX alarm_by_key;
DROP TABLE contract, tag, delivery, notice, receiver;
ALTER TABLE incident DROP COLUMN said_severity, DROP COLUMN said_cleared;

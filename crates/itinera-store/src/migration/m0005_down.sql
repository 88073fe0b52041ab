ALTER TABLE judge DROP COLUMN events;
DROP TABLE outward;
DROP TABLE event;
DROP TABLE around_round;
DROP TABLE check_round;
DROP TABLE check_task;
ALTER TABLE target DROP COLUMN intended;
ALTER TABLE target DROP COLUMN checks;

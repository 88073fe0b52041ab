DROP TABLE database_size;
DROP TABLE opening_window;
DROP TABLE opening_state;
DROP INDEX batch_by_time;
DROP INDEX finding_by_window;
ALTER TABLE reading DROP COLUMN used_on;
ALTER TABLE route DROP COLUMN used_on;
ALTER TABLE resolution DROP COLUMN used_on;
ALTER TABLE flow DROP COLUMN used_on;

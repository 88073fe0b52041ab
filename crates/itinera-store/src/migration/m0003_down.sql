ALTER TABLE agent DROP COLUMN refused;
ALTER TABLE agent DROP COLUMN heard_from;
ALTER TABLE target DROP COLUMN port;
ALTER TABLE round DROP COLUMN reading_no;
DROP TABLE reading;

DROP TABLE suppression;
DROP TABLE watch;
DROP TABLE two_way_round;
DROP TABLE pair;
ALTER TABLE target DROP COLUMN host;
ALTER TABLE agent DROP COLUMN addresses;

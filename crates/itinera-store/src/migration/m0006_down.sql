ALTER TABLE pair DROP COLUMN wanted_until;

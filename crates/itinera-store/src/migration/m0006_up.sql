-- A pair that nobody has chosen is measured until then, because somebody looks outward from one of
-- both to the other.
ALTER TABLE pair ADD COLUMN wanted_until timestamptz;

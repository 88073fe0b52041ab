-- The rounds in blocks are lost to an earlier version.
UPDATE meta SET min_reader = 4;
DROP TABLE round_compaction, round_block;

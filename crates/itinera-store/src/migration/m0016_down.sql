UPDATE meta SET min_reader = 3;
DELETE FROM path_window;
DELETE FROM opening_state;
ALTER TABLE path_latest RESET (fillfactor);
DROP INDEX two_way_round_by_commit;
DROP TABLE evidence_merge, evidence_hour, evidence;

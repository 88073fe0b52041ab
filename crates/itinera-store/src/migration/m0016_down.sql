UPDATE meta SET min_reader = 3;
DELETE FROM path_window;
DELETE FROM opening_state;
DROP TABLE evidence_merge, evidence_hour, evidence;

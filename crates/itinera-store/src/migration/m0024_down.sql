DROP TABLE saved_view;
DROP TABLE quiet_alarm;
DROP TABLE rule_set;

DROP TABLE log_clock;

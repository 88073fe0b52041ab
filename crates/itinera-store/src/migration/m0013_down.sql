DROP TABLE rollup_cursor;
DROP TABLE rollup;

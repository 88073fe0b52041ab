DELETE FROM alarm WHERE class = 'service';
DROP INDEX service_open;
ALTER TABLE alarm DROP CONSTRAINT alarm_class_check,
    ADD CONSTRAINT alarm_class_check CHECK (class IN ('path', 'event'));

-- Faults of the service itself are alarms of a class of their own.

ALTER TABLE alarm DROP CONSTRAINT alarm_class_check,
    ADD CONSTRAINT alarm_class_check CHECK (class IN ('path', 'event', 'service'));
CREATE UNIQUE INDEX service_open ON alarm (key) WHERE cleared_at IS NULL AND class = 'service';

-- Rules of alarms, each version whole; the alarms that their quiet hours shelved; saved views of alarms.

CREATE TABLE rule_set (
    version bigint PRIMARY KEY,
    at timestamptz NOT NULL,
    user_name text NOT NULL,
    text text NOT NULL,
    rules jsonb NOT NULL
);

CREATE TABLE quiet_alarm (
    alarm_id uuid NOT NULL REFERENCES alarm ON DELETE CASCADE,
    until timestamptz NOT NULL,
    rule text NOT NULL,
    PRIMARY KEY (alarm_id, until)
);

CREATE TABLE saved_view (
    user_id uuid NOT NULL REFERENCES user_account ON DELETE CASCADE,
    name text NOT NULL,
    query text NOT NULL,
    PRIMARY KEY (user_id, name)
);

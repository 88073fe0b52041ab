-- What answers say besides who and when, identified by its content like a route. An older program
-- goes on writing rounds without it.
CREATE TABLE reading (
    no bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    content bytea NOT NULL UNIQUE,
    body jsonb NOT NULL
);
ALTER TABLE round ADD COLUMN reading_no bigint;

-- The port of UDP and TCP probes to a target.
ALTER TABLE target ADD COLUMN port integer CHECK (port BETWEEN 1 AND 65535);

-- The public address that an agent was last heard from: agents that share one share what hops
-- answer to it.
ALTER TABLE agent ADD COLUMN heard_from text;

-- Tasks that an agent's site does not allow it, as it said last.
ALTER TABLE agent ADD COLUMN refused jsonb NOT NULL DEFAULT '[]';

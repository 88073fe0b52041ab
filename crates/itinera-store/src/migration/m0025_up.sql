-- Routes of pairs in each direction, as the agent that sends in it reports them: when they change, and
-- every hour.
CREATE TABLE pair_route (
    received_at timestamptz NOT NULL,
    commit_no bigint NOT NULL,
    pair_no integer NOT NULL,
    body bytea NOT NULL
) PARTITION BY RANGE (received_at);
CREATE INDEX pair_route_by_pair ON pair_route (pair_no, received_at);
CREATE INDEX pair_route_by_commit ON pair_route USING brin (commit_no)
    WITH (pages_per_range = 32, autosummarize = on);

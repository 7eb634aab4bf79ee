-- Rollouts over outposts, one at a time for each endpoint. target : the outpost or label whose version changes. counted : what is counted of
-- the calls that outposts bring.
CREATE TABLE outpost_rollouts (
    number int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    endpoint text NOT NULL REFERENCES endpoints (name) ON DELETE CASCADE,
    target text NOT NULL,
    rollout json NOT NULL,
    state text NOT NULL,
    counted json NOT NULL,
    readings json NOT NULL DEFAULT '[]',
    begun_by text NOT NULL,
    begun_at timestamptz NOT NULL DEFAULT now(),
    ended_at timestamptz
);
CREATE UNIQUE INDEX outpost_rollouts_one_at_a_time ON outpost_rollouts (endpoint) WHERE ended_at IS NULL;

-- The turn of an outpost: while it gives both versions calls. counts : of the calls it answered then, as their records come. judged : of
-- those whose outcomes are known.
CREATE TABLE outpost_rollout_turns (
    rollout_number int NOT NULL REFERENCES outpost_rollouts ON DELETE CASCADE,
    outpost text NOT NULL,
    since timestamptz NOT NULL,
    until timestamptz,
    counts json NOT NULL,
    judged json,
    PRIMARY KEY (rollout_number, outpost)
);

-- Loads that people have put on endpoints. plan : of lamppost.core.load.load_plan. result : what came of it, null while it goes on, or where
-- it was broken off. ends_at : when it ends by itself.
CREATE TABLE loads (
    name        text PRIMARY KEY,
    number      bigint GENERATED ALWAYS AS IDENTITY,
    endpoints   text[] NOT NULL,
    plan        json NOT NULL,
    serves      json NOT NULL,
    made_by     text NOT NULL,
    made_at     timestamptz NOT NULL DEFAULT now(),
    ends_at     timestamptz NOT NULL,
    ended_at    timestamptz,
    result      json
);
CREATE INDEX loads_by_number ON loads (number DESC);

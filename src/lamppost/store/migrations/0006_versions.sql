-- Who changed what: only ever added to. Where the service has a role of its own it owns every table but this one.
CREATE TABLE trail (
    number      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at          timestamptz NOT NULL DEFAULT now(),
    token       text NOT NULL,
    address     text,
    action      text NOT NULL,
    subject     text NOT NULL,
    before      json,
    after       json,
    note        text
);
CREATE INDEX trail_by_subject ON trail (subject, number DESC);
CREATE FUNCTION trail_stands() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'the trail is only ever added to';
END $$;
CREATE TRIGGER trail_stands BEFORE UPDATE OR DELETE OR TRUNCATE ON trail FOR EACH STATEMENT EXECUTE FUNCTION trail_stands();

-- Models have somebody who answers for them; versions may be retired, and are kept.
ALTER TABLE models ADD COLUMN owner text, ADD COLUMN purpose text;
ALTER TABLE versions ADD COLUMN retired_at timestamptz, ADD COLUMN retired_by text;

-- A change that puts an earlier one back says which. A step of a rollout says of which, and what nodes are to count meanwhile.
ALTER TABLE splits ADD COLUMN restores int, ADD COLUMN rollout int, ADD COLUMN watch json;

-- A rollout is run by whichever node holds its row. before : revision in force before it. revision : of its present step.
CREATE TABLE rollouts (
    number      int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    endpoint    text NOT NULL REFERENCES endpoints,
    rollout     json NOT NULL,
    state       text NOT NULL,
    before      int NOT NULL,
    revision    int NOT NULL,
    p99_ms      real,
    readings    json NOT NULL DEFAULT '[]',
    begun_by    text NOT NULL,
    begun_at    timestamptz NOT NULL DEFAULT now(),
    step_since  timestamptz NOT NULL DEFAULT now(),
    ended_at    timestamptz
);
CREATE UNIQUE INDEX rollouts_one_at_a_time ON rollouts (endpoint) WHERE ended_at IS NULL;
CREATE TABLE rollout_counts (
    rollout     int NOT NULL REFERENCES rollouts,
    step        int NOT NULL,
    node        text NOT NULL,
    counts      json NOT NULL,
    PRIMARY KEY (rollout, step, node)
);

-- An endpoint may demand that others approve a version before it serves there.
ALTER TABLE endpoints ADD COLUMN approvals int NOT NULL DEFAULT 0 CHECK (approvals BETWEEN 0 AND 9);
CREATE TABLE reviews (
    number      int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    endpoint    text NOT NULL REFERENCES endpoints,
    version     text NOT NULL,
    note        text NOT NULL,
    asked_by    text NOT NULL,
    asked_at    timestamptz NOT NULL DEFAULT now(),
    state       text NOT NULL DEFAULT 'open' CHECK (state IN ('open', 'approved', 'refused', 'withdrawn'))
);
CREATE UNIQUE INDEX reviews_one_at_a_time ON reviews (endpoint, version) WHERE state IN ('open', 'approved');
CREATE TABLE verdicts (
    review      int NOT NULL REFERENCES reviews,
    token       text NOT NULL,
    approves    boolean NOT NULL,
    reason      text NOT NULL,
    at          timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (review, token)
);

-- What a shadow answered is recorded beside what was answered, under the same request id.
ALTER TABLE calls ADD COLUMN shadow boolean NOT NULL DEFAULT false;
ALTER TABLE latency ADD COLUMN shadow boolean NOT NULL DEFAULT false;
ALTER TABLE latency DROP CONSTRAINT latency_pkey;
ALTER TABLE latency ADD PRIMARY KEY (endpoint, at, version, status, bucket, shadow);

-- Nodes far away that have no database: what each is to serve, and what it last said of itself.
CREATE TABLE outposts (
    name text PRIMARY KEY,
    token text NOT NULL UNIQUE,
    labels text[] NOT NULL DEFAULT '{}',
    payload_bytes_per_day bigint,
    made_by text NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now(),
    barred_at timestamptz,
    instance text,
    heard_at timestamptz,
    report json,
    records_at timestamptz,
    clock_ahead_s double precision
);

-- target : the name of an outpost, or a label as key=value.
CREATE TABLE outpost_versions (
    endpoint text NOT NULL REFERENCES endpoints (name) ON DELETE CASCADE,
    target text NOT NULL,
    version text NOT NULL,
    set_by text NOT NULL,
    set_at timestamptz NOT NULL DEFAULT now(),
    number bigint GENERATED ALWAYS AS IDENTITY,
    PRIMARY KEY (endpoint, target)
);

ALTER TABLE tokens DROP CONSTRAINT tokens_role_check;
ALTER TABLE tokens ADD CONSTRAINT tokens_role_check
    CHECK (role IN ('caller', 'viewer', 'publisher', 'operator', 'reviewer', 'admin', 'desk', 'outpost'));

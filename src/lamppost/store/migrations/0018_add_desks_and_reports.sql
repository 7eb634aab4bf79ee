-- Reports about runs: when the report of a run was sent, and why it was not. Runs of a desk: whose, and until when they are kept.
ALTER TABLE bulk_runs ADD COLUMN reported_at timestamptz;
ALTER TABLE bulk_runs ADD COLUMN report_fault text;
ALTER TABLE bulk_runs ADD COLUMN desk text;
ALTER TABLE bulk_runs ADD COLUMN keep_until timestamptz;
CREATE INDEX bulk_runs_of_desks ON bulk_runs (desk, number DESC) WHERE desk IS NOT NULL;

-- Desks: what each shows. written : its settings, of lamppost.core.desk.settings.
CREATE TABLE desks (
    endpoint    text PRIMARY KEY,
    written     json NOT NULL,
    made_by     text NOT NULL,
    changed_at  timestamptz NOT NULL DEFAULT now()
);

-- How often a desk was used, by link and day.
CREATE TABLE desk_uses (
    endpoint    text NOT NULL,
    token       text NOT NULL,
    day         date NOT NULL,
    questions   bigint NOT NULL DEFAULT 0,
    files       bigint NOT NULL DEFAULT 0,
    rows        bigint NOT NULL DEFAULT 0,
    PRIMARY KEY (endpoint, token, day)
);

-- The link to a desk is a token with a role of its own.
ALTER TABLE tokens DROP CONSTRAINT tokens_role_check;
ALTER TABLE tokens ADD CONSTRAINT tokens_role_check
    CHECK (role IN ('caller', 'viewer', 'publisher', 'operator', 'reviewer', 'admin', 'desk'));

-- Bulk runs: what each was asked to do, how far it is, and what came of it. setups : what its questions ask, fixed at its start.
CREATE TABLE bulk_runs (
    name        text PRIMARY KEY,
    number      bigint GENERATED ALWAYS AS IDENTITY,
    written     json NOT NULL,
    setups      json NOT NULL,
    endpoints   text[] NOT NULL,
    versions    text[] NOT NULL,
    node        text NOT NULL,
    state       text NOT NULL,
    reason      text,
    made_by     text NOT NULL,
    made_at     timestamptz NOT NULL DEFAULT now(),
    started_at  timestamptz,
    ended_at    timestamptz,
    busy_s      double precision NOT NULL DEFAULT 0,
    row_total   bigint,
    source      json,
    digest      text,
    result      json
);
CREATE INDEX bulk_runs_by_number ON bulk_runs (number DESC);
CREATE INDEX bulk_runs_not_ended ON bulk_runs (node) WHERE ended_at IS NULL;

-- Blocks of runs whose output is on disk, or in the target's staging table. answers : how often each answer was given. sketches : by version,
-- of lamppost.core.drift.windows.
CREATE TABLE bulk_blocks (
    run         text NOT NULL REFERENCES bulk_runs (name) ON DELETE CASCADE,
    block       int NOT NULL,
    at          timestamptz NOT NULL DEFAULT now(),
    row_count   int NOT NULL,
    rejects     int NOT NULL,
    answers     json NOT NULL,
    sketches    bytea[] NOT NULL,
    PRIMARY KEY (run, block)
);

-- Files that clients bring for bulk runs. They lie in the data folder of a node.
CREATE TABLE uploads (
    id          uuid PRIMARY KEY,
    node        text NOT NULL,
    file_name   text NOT NULL,
    made_by     text NOT NULL,
    made_at     timestamptz NOT NULL DEFAULT now()
);

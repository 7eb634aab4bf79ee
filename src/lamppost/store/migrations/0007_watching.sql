-- How odd a row was, and by what; who brought a call that was answered elsewhere or is made up; the
-- trace that it belongs to, where its caller said so.
ALTER TABLE calls ADD COLUMN odd real, ADD COLUMN odd_why text, ADD COLUMN brought_by text, ADD COLUMN trace text;

-- What rows looked like, counted while their calls were stored: a delta with each delivery, merged later. at : start of ten minutes.
CREATE TABLE sketches (
    number      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    endpoint    text NOT NULL,
    version     text NOT NULL,
    at          timestamptz NOT NULL,
    row_count   int NOT NULL,
    odd_count   int NOT NULL,
    data        bytea NOT NULL
);
CREATE INDEX sketches_by_version ON sketches (endpoint, version, at);

-- What was said of each window. through : number of the last sketch that was looked at.
CREATE TABLE judged (
    endpoint    text NOT NULL,
    version     text NOT NULL,
    at          timestamptz NOT NULL,
    until       timestamptz NOT NULL,
    row_count   int NOT NULL,
    odd_count   int NOT NULL,
    state       text NOT NULL,
    verdict     json NOT NULL,
    why         json,
    PRIMARY KEY (endpoint, version, at)
);
CREATE TABLE judged_through (
    endpoint    text NOT NULL,
    version     text NOT NULL,
    number      bigint NOT NULL,
    PRIMARY KEY (endpoint, version)
);

-- Where the time of answered calls goes, by phase; under the phase 'batch' the buckets are of rows that ran together, and 'rows' counts rows.
CREATE TABLE phases (
    endpoint    text NOT NULL,
    version     text NOT NULL,
    at          timestamptz NOT NULL,
    phase       text NOT NULL,
    bucket      smallint NOT NULL,
    calls       bigint NOT NULL,
    PRIMARY KEY (endpoint, at, version, phase, bucket)
);

-- What lanes looked like, each half minute.
CREATE TABLE lane_history (
    at          timestamptz NOT NULL,
    node        text NOT NULL,
    version     text NOT NULL,
    copies      smallint NOT NULL,
    waiting     int NOT NULL,
    memory_mb   real NOT NULL,
    PRIMARY KEY (version, at, node)
);

-- The truth about earlier answers, told later. said : the answer, slices : choices of the row, both as they were recorded.
-- correct : whether they are the same, or of numbers within a tenth of the spread in training.
CREATE TABLE outcomes (
    request_id  uuid NOT NULL,
    row         int NOT NULL,
    version     text NOT NULL,
    endpoint    text NOT NULL,
    shadow      boolean NOT NULL,
    answered_at timestamptz NOT NULL,
    told_at     timestamptz NOT NULL DEFAULT now(),
    told_by     text NOT NULL,
    truth       json NOT NULL,
    said        json NOT NULL,
    slices      json NOT NULL,
    correct     boolean NOT NULL,
    PRIMARY KEY (request_id, row, version)
);
CREATE INDEX outcomes_by_endpoint ON outcomes (endpoint, answered_at);

-- What is wrong, from when to when. One that is open at a time for each rule of an endpoint; notices go out by group.
CREATE TABLE alerts (
    number      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    endpoint    text NOT NULL,
    rule        text NOT NULL,
    cause       text NOT NULL,
    state       text NOT NULL CHECK (state IN ('firing', 'acknowledged', 'resolved')),
    since       timestamptz NOT NULL,
    seen_at     timestamptz NOT NULL,
    resolved_at timestamptz,
    acknowledged_by text,
    note        text,
    told        json NOT NULL
);
CREATE UNIQUE INDEX alerts_one_at_a_time ON alerts (endpoint, rule) WHERE state <> 'resolved';
CREATE INDEX alerts_by_time ON alerts (since DESC);
CREATE TABLE mutes (
    endpoint    text PRIMARY KEY,
    until       timestamptz NOT NULL,
    muted_by    text NOT NULL,
    note        text
);
CREATE TABLE channels (
    name        text PRIMARY KEY,
    kind        text NOT NULL CHECK (kind IN ('webhook', 'mail')),
    target      text NOT NULL,
    secret      text,
    endpoints   text[],
    reports     text NOT NULL DEFAULT 'none' CHECK (reports IN ('none', 'daily', 'weekly')),
    reported_at timestamptz,
    made_by     text NOT NULL,
    made_at     timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE notices (
    id          uuid PRIMARY KEY,
    channel     text NOT NULL REFERENCES channels ON DELETE CASCADE,
    made_at     timestamptz NOT NULL DEFAULT now(),
    body        json NOT NULL,
    tries       int NOT NULL DEFAULT 0,
    next_try    timestamptz NOT NULL DEFAULT now(),
    done_at     timestamptz,
    given_up    boolean NOT NULL DEFAULT false,
    error       text
);
CREATE INDEX notices_waiting ON notices (next_try) WHERE done_at IS NULL AND NOT given_up;

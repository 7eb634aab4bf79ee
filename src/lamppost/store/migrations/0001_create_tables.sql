-- Who may ask: tokens are kept as SHA-256 only; sessions and one-time sign-in links hang on a token and die with it.
CREATE TABLE tokens (
    name        text PRIMARY KEY,
    role        text NOT NULL CHECK (role IN ('caller', 'viewer', 'publisher', 'operator', 'reviewer', 'admin')),
    endpoints   text[],
    hash        bytea NOT NULL UNIQUE CHECK (length(hash) = 32),
    made_at     timestamptz NOT NULL DEFAULT now(),
    made_by     text,
    revoked_at  timestamptz
);
CREATE TABLE sessions (
    hash        bytea PRIMARY KEY CHECK (length(hash) = 32),
    token       text NOT NULL REFERENCES tokens ON DELETE CASCADE,
    kind        text NOT NULL CHECK (kind IN ('browser', 'link')),
    expires_at  timestamptz NOT NULL
);

-- Packages by content digest; their bytes in content-addressed chunks.
CREATE TABLE packages (
    digest      text PRIMARY KEY CHECK (length(digest) = 64),
    size_bytes  bigint NOT NULL,
    manifest    text NOT NULL,
    stored_at   timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE chunks (
    sha256      bytea PRIMARY KEY CHECK (length(sha256) = 32),
    data        bytea NOT NULL
);
ALTER TABLE chunks ALTER COLUMN data SET STORAGE EXTERNAL;
CREATE TABLE package_chunks (
    digest      text NOT NULL REFERENCES packages ON DELETE CASCADE,
    position    int NOT NULL,
    sha256      bytea NOT NULL REFERENCES chunks,
    PRIMARY KEY (digest, position)
);

CREATE TABLE models (
    name        text PRIMARY KEY,
    made_at     timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE versions (
    model       text NOT NULL REFERENCES models,
    number      int NOT NULL CHECK (number > 0),
    digest      text NOT NULL REFERENCES packages,
    pushed_by   text NOT NULL,
    pushed_at   timestamptz NOT NULL DEFAULT now(),
    proof       text NOT NULL DEFAULT 'not yet' CHECK (proof IN ('not yet', 'passed', 'failed')),
    proof_says  text,
    proven_at   timestamptz,
    PRIMARY KEY (model, number),
    UNIQUE (model, digest)
);

-- What an endpoint serves is its newest split; earlier ones stay as its history.
CREATE TABLE endpoints (
    name        text PRIMARY KEY,
    made_at     timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE splits (
    endpoint    text NOT NULL REFERENCES endpoints,
    revision    int NOT NULL CHECK (revision > 0),
    model       text NOT NULL,
    number      int NOT NULL,
    since       timestamptz NOT NULL DEFAULT now(),
    changed_by  text NOT NULL,
    PRIMARY KEY (endpoint, revision),
    FOREIGN KEY (model, number) REFERENCES versions
);

-- Records: one row a call, a partition a day. Bodies are json, not jsonb, so that they come back as they were sent.
CREATE TABLE calls (
    at          timestamptz NOT NULL,
    request_id  uuid NOT NULL,
    endpoint    text NOT NULL,
    version     text,
    token       text,
    status      smallint NOT NULL,
    row_count   int NOT NULL,
    batch_rows  int,
    total_us    int NOT NULL,
    phases_us   json NOT NULL,
    input       json,
    answer      json
) PARTITION BY RANGE (at);
CREATE INDEX calls_by_endpoint ON calls (endpoint, at DESC);
CREATE INDEX calls_by_id ON calls (request_id);

-- Latency histograms: counts per logarithmic bucket, a window of ten seconds.
CREATE TABLE latency (
    endpoint    text NOT NULL,
    version     text NOT NULL,
    status      smallint NOT NULL,
    at          timestamptz NOT NULL,
    bucket      smallint NOT NULL,
    calls       bigint NOT NULL,
    PRIMARY KEY (endpoint, at, version, status, bucket)
);

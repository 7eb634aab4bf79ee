-- Explanations that were made: who asked for which, and what it cost. What they said is not kept.
CREATE TABLE explanations (
    request_id  uuid PRIMARY KEY,
    at          timestamptz NOT NULL DEFAULT now(),
    endpoint    text NOT NULL,
    version     text NOT NULL,
    token       text NOT NULL,
    call        uuid,
    asked       int NOT NULL,
    took_ms     real NOT NULL,
    stopped     text NOT NULL
);
CREATE INDEX explanations_by_endpoint ON explanations (endpoint, at DESC);

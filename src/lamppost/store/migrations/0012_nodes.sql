-- The nodes that work with this database. address : where other nodes reach it.
CREATE TABLE nodes (
    name        text PRIMARY KEY,
    address     text NOT NULL,
    software    text NOT NULL,
    started_at  timestamptz NOT NULL,
    seen_at     timestamptz NOT NULL
);

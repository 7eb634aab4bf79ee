-- The last frame of each spool segment that is stored here: what is delivered twice is stored once.
CREATE TABLE spooled (
    segment     text PRIMARY KEY,
    number      int NOT NULL,
    at          timestamptz NOT NULL DEFAULT now()
);

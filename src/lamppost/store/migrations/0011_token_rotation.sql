-- A token that was given a new secret is known by its former one until former_until.
ALTER TABLE tokens
    ADD COLUMN former_hash bytea UNIQUE CHECK (length(former_hash) = 32),
    ADD COLUMN former_until timestamptz,
    ADD CHECK ((former_hash IS NULL) = (former_until IS NULL));

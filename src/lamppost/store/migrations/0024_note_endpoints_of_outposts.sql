-- Every endpoint that an outpost was ever told to serve: records of others are not its own.
CREATE TABLE outpost_endpoints (
    outpost text NOT NULL REFERENCES outposts (name) ON DELETE CASCADE,
    endpoint text NOT NULL REFERENCES endpoints (name) ON DELETE CASCADE,
    PRIMARY KEY (outpost, endpoint)
);

INSERT INTO outpost_endpoints (outpost, endpoint)
SELECT DISTINCT o.name, v.endpoint FROM outposts o JOIN outpost_versions v ON v.target = o.name OR v.target = ANY (o.labels);

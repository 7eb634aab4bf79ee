-- What an endpoint serves is a setup: one version, or several behind one name, with look-ups. Which versions it names stands beside it,
-- so that none of them can go while a setup refers to it.
ALTER TABLE splits ADD COLUMN setup json;
UPDATE splits SET setup = json_build_object('version', model || '@' || number);
ALTER TABLE splits ALTER COLUMN setup SET NOT NULL;

CREATE TABLE split_versions (
    endpoint    text NOT NULL,
    revision    int NOT NULL,
    model       text NOT NULL,
    number      int NOT NULL,
    PRIMARY KEY (endpoint, revision, model, number),
    FOREIGN KEY (endpoint, revision) REFERENCES splits,
    FOREIGN KEY (model, number) REFERENCES versions
);
INSERT INTO split_versions (endpoint, revision, model, number) SELECT endpoint, revision, model, number FROM splits;
ALTER TABLE splits DROP COLUMN model, DROP COLUMN number;

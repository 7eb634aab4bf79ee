-- What a version did when it was first opened on a node: seconds, bytes, rows a second.
ALTER TABLE versions ADD COLUMN measured json;

-- Chunks come before the package that is made of them; those that no package took are forgotten after a day.
ALTER TABLE chunks ADD COLUMN stored_at timestamptz NOT NULL DEFAULT now();
CREATE INDEX package_chunks_by_chunk ON package_chunks (sha256);

-- Ed25519 signatures of a package's digest; the same package may be signed again later, by others.
CREATE TABLE signatures (
    digest      text NOT NULL REFERENCES packages ON DELETE CASCADE,
    key         text NOT NULL CHECK (length(key) = 44),
    signature   text NOT NULL CHECK (length(signature) = 88),
    stored_at   timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (digest, key)
);

-- An endpoint that was deleted can be given back until restorable_until; after that (null) its name is free.
-- Revisions before first_revision belong to a former endpoint of the same name.
ALTER TABLE endpoints
    ADD COLUMN deleted_at timestamptz,
    ADD COLUMN deleted_by text,
    ADD COLUMN restorable_until timestamptz,
    ADD COLUMN first_revision int NOT NULL DEFAULT 1,
    ADD CHECK (deleted_at IS NOT NULL OR restorable_until IS NULL);

-- A deleted version keeps its number, which records name, and has no package.
ALTER TABLE versions
    ALTER COLUMN digest DROP NOT NULL,
    ADD COLUMN deleted_at timestamptz,
    ADD COLUMN deleted_by text,
    ADD CHECK ((digest IS NULL) = (deleted_at IS NOT NULL));

-- A chunk that no package uses is kept as long as a push may still be on its way that counts on it.
ALTER TABLE chunks RENAME COLUMN stored_at TO awaited_until;
ALTER TABLE chunks ALTER COLUMN awaited_until SET DEFAULT now() + interval '1 day';
UPDATE chunks SET awaited_until = CASE
    WHEN EXISTS (SELECT 1 FROM package_chunks p WHERE p.sha256 = chunks.sha256) THEN now()
    ELSE awaited_until + interval '1 day' END;

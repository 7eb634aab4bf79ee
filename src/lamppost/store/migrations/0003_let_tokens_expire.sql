-- A token may end by itself, and may be kept to so many requests a second; when it was last used is noted now and then.
ALTER TABLE tokens ADD COLUMN expires_at timestamptz;
ALTER TABLE tokens ADD COLUMN rate_per_s real CHECK (rate_per_s > 0);
ALTER TABLE tokens ADD COLUMN last_used_at timestamptz;

-- Tables, columns and keys get the names that the code and the API use.
ALTER TABLE splits RENAME TO endpoint_revisions;
ALTER TABLE split_versions RENAME TO revision_versions;
ALTER TABLE endpoint_revisions RENAME COLUMN watch TO counted;
ALTER TABLE judged RENAME TO judged_windows;
ALTER TABLE judged_windows RENAME COLUMN why TO explanation;
ALTER TABLE outcomes RENAME COLUMN told_at TO reported_at;
ALTER TABLE outcomes RENAME COLUMN told_by TO reported_by;
ALTER TABLE outcomes RENAME COLUMN said TO answer;
ALTER TABLE alerts RENAME COLUMN told TO evidence;
ALTER TABLE calls RENAME COLUMN odd_why TO odd_reason;
ALTER TABLE versions RENAME COLUMN proof_says TO proof_summary;

-- A key in a string is written \"key\", so these patterns meet keys only.
CREATE FUNCTION pg_temp.rename_key(value json, old text, new text) RETURNS json LANGUAGE sql IMMUTABLE AS $$
    SELECT regexp_replace(value::text, '"' || old || '"\s*:', '"' || new || '": ', 'g')::json
$$;
UPDATE judged_windows SET
    verdict = pg_temp.rename_key(pg_temp.rename_key(pg_temp.rename_key(verdict, 'says', 'summary'), 'one', 'first'), 'other', 'second'),
    explanation = pg_temp.rename_key(explanation, 'says', 'summary');
UPDATE alerts SET
    evidence = pg_temp.rename_key(pg_temp.rename_key(pg_temp.rename_key(evidence, 'says', 'summary'), 'sure', 'certainty'), 'why', 'probable_cause');
UPDATE notices SET
    body = pg_temp.rename_key(pg_temp.rename_key(pg_temp.rename_key(body, 'says', 'summary'), 'sure', 'certainty'), 'why', 'probable_cause');
UPDATE rollouts SET
    rollout = pg_temp.rename_key(rollout, 'why', 'reason'),
    readings = pg_temp.rename_key(readings, 'says', 'summary');

-- How an endpoint is monitored stands under its own name in a setup, and the alert rule for an endpoint that cannot answer is called down.
UPDATE endpoint_revisions SET setup = (
    setup::jsonb - 'watch' || jsonb_build_object('monitoring', regexp_replace(setup ->> 'watch', '"on"\s*:\s*"out"', '"on": "down"', 'g')::jsonb)
)::json WHERE setup -> 'watch' IS NOT NULL;
UPDATE alerts SET rule = 'down', cause = regexp_replace(cause, '^out: ', 'down: ') WHERE rule = 'out';

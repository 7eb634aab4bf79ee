-- Who brought in the call that an outcome is about, such as "outpost mill"; null where this service answered it. So that quality can be told
-- of one outpost.
ALTER TABLE outcomes ADD COLUMN brought_by text;

CREATE OR REPLACE VIEW call_heads AS
    SELECT c.at, b.endpoint, c.version, c.token, c.status, c.row_count, c.shadow, b.number AS block, b.first_at, b.last_at, c.brought_by
    FROM call_blocks b CROSS JOIN LATERAL unnest(b.at, b.version, b.token, b.status, b.row_count, b.shadow, b.brought_by)
        AS c (at, version, token, status, row_count, shadow, brought_by);

-- Calls lie in blocks of up to a thousand calls to one endpoint on one day: a column of a block is an array with a value for each call, in the
-- order of time. The server compresses such a column as a whole, and finds blocks by what stands beside the columns.

CREATE TYPE id_span AS RANGE (subtype = uuid);

CREATE TABLE call_blocks (
    number        bigint GENERATED ALWAYS AS IDENTITY,
    endpoint      text NOT NULL,
    first_at      timestamptz NOT NULL,
    last_at       timestamptz NOT NULL,
    ids           id_span NOT NULL,
    calls         int NOT NULL,
    small         boolean NOT NULL,
    most_status   smallint NOT NULL,
    most_us       int NOT NULL,
    most_odd      real,
    at            timestamptz[] NOT NULL,
    request_id    uuid[] NOT NULL,
    version       text[] NOT NULL,
    token         text[] NOT NULL,
    status        smallint[] NOT NULL,
    row_count     int[] NOT NULL,
    batch_rows    int[] NOT NULL,
    total_us      int[] NOT NULL,
    phases_us     json[] NOT NULL,
    shadow        boolean[] NOT NULL,
    trace         uuid[] NOT NULL,
    input         json[] NOT NULL,
    answer        json[] NOT NULL,
    odd           real[] NOT NULL,
    odd_reason    text[] NOT NULL,
    brought_by    text[] NOT NULL
) PARTITION BY RANGE (first_at);
CREATE INDEX call_blocks_by_endpoint ON call_blocks (endpoint, last_at);
CREATE INDEX call_blocks_by_time ON call_blocks (last_at);
CREATE INDEX call_blocks_by_number ON call_blocks (number);
CREATE INDEX call_blocks_by_id ON call_blocks USING gist (ids);
CREATE INDEX small_call_blocks ON call_blocks (endpoint, first_at, calls, number) WHERE small;

CREATE OR REPLACE FUNCTION make_calls_partition(day date) RETURNS void LANGUAGE plpgsql SECURITY DEFINER SET search_path = lamppost, pg_temp AS $$
BEGIN
    PERFORM pg_advisory_xact_lock(8421);
    EXECUTE format('CREATE TABLE IF NOT EXISTS %I PARTITION OF call_blocks FOR VALUES FROM (%L) TO (%L)',
        'call_blocks_' || to_char(day, 'YYYYMMDD'), day::timestamp AT TIME ZONE 'UTC', (day + 1)::timestamp AT TIME ZONE 'UTC');
END $$;

CREATE OR REPLACE FUNCTION drop_calls_partitions(before date) RETURNS void LANGUAGE plpgsql SECURITY DEFINER SET search_path = lamppost, pg_temp AS $$
DECLARE
    name text;
BEGIN
    FOR name IN SELECT c.relname FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid WHERE i.inhparent = 'call_blocks'::regclass LOOP
        IF name < 'call_blocks_' || to_char(before, 'YYYYMMDD') THEN
            EXECUTE format('DROP TABLE %I', name);
        END IF;
    END LOOP;
END $$;

-- What earlier versions kept as a row for each call, a day at a time.
DO $$
DECLARE
    former text;
BEGIN
    FOR former IN SELECT c.relname FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid WHERE i.inhparent = 'calls'::regclass LOOP
        PERFORM make_calls_partition(to_date(right(former, 8), 'YYYYMMDD'));
        EXECUTE format($insert$
            INSERT INTO call_blocks (endpoint, first_at, last_at, ids, calls, small, most_status, most_us, most_odd, at,
                request_id, version, token, status, row_count, batch_rows, total_us, phases_us, shadow, trace, input, answer, odd,
                odd_reason, brought_by)
            SELECT endpoint, min(at), max(at), id_span(min(request_id::text)::uuid, max(request_id::text)::uuid, '[]'), count(*),
                sum(weight) < 524288, max(status), max(total_us), max(odd), array_agg(at ORDER BY at, place),
                array_agg(request_id ORDER BY at, place), array_agg(version ORDER BY at, place), array_agg(token ORDER BY at, place),
                array_agg(status ORDER BY at, place), array_agg(row_count ORDER BY at, place), array_agg(batch_rows ORDER BY at, place),
                array_agg(total_us ORDER BY at, place), array_agg(phases_us ORDER BY at, place), array_agg(shadow ORDER BY at, place),
                array_agg(CASE WHEN trace ~ '^[0-9a-f]{32}$' THEN trace::uuid END ORDER BY at, place), array_agg(input ORDER BY at, place),
                array_agg(answer ORDER BY at, place), array_agg(odd ORDER BY at, place), array_agg(odd_reason ORDER BY at, place),
                array_agg(brought_by ORDER BY at, place)
            FROM (SELECT *, sum(weight) OVER (PARTITION BY endpoint ORDER BY at, place ROWS UNBOUNDED PRECEDING) / 1048576 AS block
                FROM (SELECT *, row_number() OVER () AS place,
                    greatest(1048, coalesce(octet_length(input::text), 0) + coalesce(octet_length(answer::text), 0)) AS weight
                    FROM %I) weighed) cut
            GROUP BY endpoint, block
        $insert$, former);
        EXECUTE format('DROP TABLE %I', former);
    END LOOP;
END $$;
DROP TABLE calls;

-- One row a call. block, first_at, last_at and ids are those of its block: conditions on them choose the blocks that are opened.
CREATE VIEW calls AS
    SELECT c.at, c.request_id, b.endpoint, c.version, c.token, c.status, c.row_count, c.batch_rows, c.total_us, c.phases_us, c.shadow,
        replace(c.trace::text, '-', '') AS trace, c.input, c.answer, c.odd, c.odd_reason, c.brought_by,
        b.number AS block, b.first_at, b.last_at, b.ids, b.request_id AS block_ids
    FROM call_blocks b CROSS JOIN LATERAL unnest(b.at, b.request_id, b.version, b.token, b.status, b.row_count, b.batch_rows, b.total_us,
        b.phases_us, b.shadow, b.trace, b.input, b.answer, b.odd, b.odd_reason, b.brought_by)
        AS c (at, request_id, version, token, status, row_count, batch_rows, total_us, phases_us, shadow, trace, input, answer, odd,
            odd_reason, brought_by);

-- The same without what is large, which is then not even decompressed.
CREATE VIEW call_heads AS
    SELECT c.at, b.endpoint, c.version, c.token, c.status, c.row_count, c.shadow, b.number AS block, b.first_at, b.last_at
    FROM call_blocks b CROSS JOIN LATERAL unnest(b.at, b.version, b.token, b.status, b.row_count, b.shadow)
        AS c (at, version, token, status, row_count, shadow);

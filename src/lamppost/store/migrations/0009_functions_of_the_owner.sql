-- What the service's role may do only in this way: it owns no table, so that it can neither change the trail nor plant a trigger. Each function
-- runs as the owner of the tables, and finds them, and nothing else, by its own search path.

CREATE FUNCTION make_calls_partition(day date) RETURNS void LANGUAGE plpgsql SECURITY DEFINER SET search_path = lamppost, pg_temp AS $$
BEGIN
    PERFORM pg_advisory_xact_lock(8421);
    EXECUTE format('CREATE TABLE IF NOT EXISTS %I PARTITION OF calls FOR VALUES FROM (%L) TO (%L)',
        'calls_' || to_char(day, 'YYYYMMDD'), day::timestamp AT TIME ZONE 'UTC', (day + 1)::timestamp AT TIME ZONE 'UTC');
END $$;

CREATE FUNCTION drop_calls_partitions(before date) RETURNS void LANGUAGE plpgsql SECURITY DEFINER SET search_path = lamppost, pg_temp AS $$
DECLARE
    name text;
BEGIN
    FOR name IN SELECT c.relname FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid WHERE i.inhparent = 'calls'::regclass LOOP
        IF name < 'calls_' || to_char(before, 'YYYYMMDD') THEN
            EXECUTE format('DROP TABLE %I', name);
        END IF;
    END LOOP;
END $$;

-- Time and order of an entry are the database's to say.
CREATE FUNCTION add_trail_entry(token text, address text, action text, subject text, before json, after json, note text)
RETURNS void LANGUAGE sql SECURITY DEFINER SET search_path = lamppost, pg_temp AS $$
    INSERT INTO trail (token, address, action, subject, before, after, note) VALUES ($1, $2, $3, $4, $5, $6, $7)
$$;

REVOKE ALL ON FUNCTION make_calls_partition, drop_calls_partitions, add_trail_entry FROM PUBLIC;

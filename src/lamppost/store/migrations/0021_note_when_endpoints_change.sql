-- Nodes read the endpoints that were touched lately, and all of them only now and then.
ALTER TABLE endpoints ADD COLUMN touched_at timestamptz NOT NULL DEFAULT now();
CREATE INDEX endpoints_by_touch ON endpoints (touched_at);

CREATE FUNCTION note_touch() RETURNS trigger LANGUAGE plpgsql SET search_path = lamppost, pg_temp AS $$
BEGIN
    NEW.touched_at := clock_timestamp();
    RETURN NEW;
END $$;
CREATE TRIGGER note_touch BEFORE INSERT OR UPDATE ON endpoints FOR EACH ROW EXECUTE FUNCTION note_touch();

CREATE FUNCTION touch_endpoint() RETURNS trigger LANGUAGE plpgsql SET search_path = lamppost, pg_temp AS $$
BEGIN
    UPDATE endpoints SET touched_at = clock_timestamp() WHERE name = NEW.endpoint;
    RETURN NULL;
END $$;
CREATE TRIGGER touch_endpoint AFTER INSERT OR UPDATE ON endpoint_revisions FOR EACH ROW EXECUTE FUNCTION touch_endpoint();

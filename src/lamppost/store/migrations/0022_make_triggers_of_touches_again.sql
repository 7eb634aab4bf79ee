-- A start of the service dropped the triggers of 0021; without them other nodes see a change only after ten minutes.
DROP TRIGGER IF EXISTS note_touch ON endpoints;
CREATE TRIGGER note_touch BEFORE INSERT OR UPDATE ON endpoints FOR EACH ROW EXECUTE FUNCTION note_touch();
DROP TRIGGER IF EXISTS touch_endpoint ON endpoint_revisions;
CREATE TRIGGER touch_endpoint AFTER INSERT OR UPDATE ON endpoint_revisions FOR EACH ROW EXECUTE FUNCTION touch_endpoint();
UPDATE endpoints SET touched_at = clock_timestamp();

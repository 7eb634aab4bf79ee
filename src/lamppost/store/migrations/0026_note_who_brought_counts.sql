-- Who brought in rows that were counted elsewhere, such as "outpost mill"; null for rows that this service answered. Counts of a tick are
-- merged for each of them by itself, so that drift can be told of one outpost.
ALTER TABLE sketches ADD COLUMN brought_by text;

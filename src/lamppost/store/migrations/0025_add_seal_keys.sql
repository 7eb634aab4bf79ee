-- The key that an outpost's packages are sealed with on its disk; made when it first asks for it, and given to it alone.
ALTER TABLE outposts ADD COLUMN seal_key bytea;

-- Who made the calls that outcomes are about: answers to one caller are not independent of each other.
ALTER TABLE outcomes ADD COLUMN caller text;

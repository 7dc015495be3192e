-- What arrives: marked before it is read, and what was worked out of a letter kept with it.

-- A mail that is being read, by the digest of its bytes: written down before, gone once it is
-- kept. What still stands here at the start was being read when the program ended.
CREATE TABLE being_read (
    digest TEXT PRIMARY KEY,
    -- It was read by itself, and no other beside it.
    alone  INTEGER NOT NULL CHECK (alone IN (0, 1)),
    at     INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- The words that are new in a letter, and name, type and size of each file that it brings (a JSON
-- list of three each). Letters of before have neither: these are worked out when they are shown.
ALTER TABLE letters ADD COLUMN own TEXT;
ALTER TABLE letters ADD COLUMN files TEXT CHECK (files IS NULL OR json_valid(files));
CREATE INDEX letters_unreadable ON letters (at) WHERE kind = 'unreadable' AND put_away_at IS NULL;

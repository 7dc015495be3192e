-- An address of their own for whoever wants all they booked in their calendar.
CREATE TABLE own_feeds (
    id        INTEGER PRIMARY KEY,
    email     TEXT NOT NULL UNIQUE COLLATE NOCASE,
    -- How often it was made anew: the addresses before open nothing.
    steps     INTEGER NOT NULL,
    withdrawn INTEGER NOT NULL DEFAULT 0 CHECK (withdrawn IN (0, 1))
) STRICT;

-- The face of the house: a colour to write in (empty for the program's own), a mark, and marks
-- for its kinds of events. An event may have a colour of its own.
ALTER TABLE house ADD COLUMN accent TEXT NOT NULL DEFAULT '';
ALTER TABLE events ADD COLUMN accent TEXT NOT NULL DEFAULT '';
CREATE TABLE house_mark (
    id  INTEGER PRIMARY KEY CHECK (id = 1),
    png BLOB NOT NULL
) STRICT;
CREATE TABLE kind_marks (
    kind TEXT PRIMARY KEY,
    mark TEXT NOT NULL
) STRICT, WITHOUT ROWID;

-- A draft that was thrown away: in no list, and to be had back.
ALTER TABLE events ADD COLUMN thrown_at INTEGER;

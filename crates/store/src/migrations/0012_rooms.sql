-- Doors of rooms, where sessions are.

-- The room whose sessions a door lets into; NULL where it lets into the date as a whole.
ALTER TABLE doors ADD COLUMN room_id INTEGER REFERENCES rooms (id);
-- So many minutes after a session's start the seats of sign-ups who have not come are free.
ALTER TABLE dates ADD COLUMN free_after_minutes INTEGER NOT NULL DEFAULT 5 CHECK (free_after_minutes BETWEEN 0 AND 240);
-- The sheet or roll on which a badge is printed at the door, by its name; empty for the first.
ALTER TABLE dates ADD COLUMN badge_sheet TEXT NOT NULL DEFAULT '';
-- The session whose room somebody went into, or out of. Whoever goes into a room is at the date.
ALTER TABLE scans ADD COLUMN session_id INTEGER REFERENCES date_sessions (id) ON DELETE SET NULL;
ALTER TABLE scans ADD COLUMN room_way TEXT CHECK (room_way IN ('in', 'out'));
CREATE INDEX scans_by_session ON scans (session_id, attendee_id, at) WHERE session_id IS NOT NULL AND undone_at IS NULL;
CREATE INDEX scans_in_rooms ON scans (attendee_id, at) WHERE room_way IS NOT NULL AND undone_at IS NULL;

-- Who of the house asked to hear when somebody comes.
CREATE TABLE awaited (
    attendee_id INTEGER NOT NULL REFERENCES attendees (id) ON DELETE CASCADE,
    person_id   INTEGER NOT NULL REFERENCES people (id) ON DELETE CASCADE,
    PRIMARY KEY (attendee_id, person_id)
) STRICT, WITHOUT ROWID;

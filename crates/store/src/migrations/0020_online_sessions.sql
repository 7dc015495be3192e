-- Sessions of a date online that have a room of their own: a link, or a room of the service.
CREATE TABLE online_sessions (
    session_id INTEGER PRIMARY KEY REFERENCES date_sessions (id) ON DELETE CASCADE,
    room       TEXT NOT NULL CHECK (room IN ('link', 'made')),
    link       TEXT NOT NULL DEFAULT '',
    passcode   TEXT NOT NULL DEFAULT ''
) STRICT;

-- Dates online: where each happens, who went in, what the room reported.

CREATE TABLE online_dates (
    date_id         INTEGER PRIMARY KEY REFERENCES dates (id) ON DELETE CASCADE,
    room            TEXT NOT NULL,
    -- Of a link of its own.
    link            TEXT NOT NULL DEFAULT '',
    passcode        TEXT NOT NULL DEFAULT '',
    opens_minutes   INTEGER NOT NULL DEFAULT 15,
    -- What a room of the service can do.
    straight_in     INTEGER NOT NULL DEFAULT 1 CHECK (straight_in IN (0, 1)),
    may_speak       INTEGER NOT NULL DEFAULT 0 CHECK (may_speak IN (0, 1)),
    recorded        INTEGER NOT NULL DEFAULT 0 CHECK (recorded IN (0, 1)),
    -- The room's own address and passcode may stand in mails.
    in_mails        INTEGER NOT NULL DEFAULT 0 CHECK (in_mails IN (0, 1)),
    prepare         TEXT NOT NULL DEFAULT '',
    -- Afterwards.
    recording       TEXT NOT NULL DEFAULT '',
    recording_until INTEGER,
    audience        TEXT NOT NULL DEFAULT 'came'
) STRICT;

-- Rooms that the service made: for a date (d12), or for all dates of an event (e3).
CREATE TABLE online_rooms (
    key     TEXT PRIMARY KEY,
    remote  TEXT NOT NULL,
    made_at INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- Who went in through the foyer, from which browser.
CREATE TABLE online_goes (
    id          INTEGER PRIMARY KEY,
    attendee_id INTEGER NOT NULL REFERENCES attendees (id) ON DELETE CASCADE,
    date_id     INTEGER NOT NULL REFERENCES dates (id) ON DELETE CASCADE,
    at          INTEGER NOT NULL,
    browser     TEXT NOT NULL
) STRICT;
CREATE INDEX online_goes_by_attendee ON online_goes (attendee_id, at);

-- What the room reported: each stay of an attendee.
CREATE TABLE online_stays (
    date_id     INTEGER NOT NULL REFERENCES dates (id) ON DELETE CASCADE,
    attendee_id INTEGER NOT NULL REFERENCES attendees (id) ON DELETE CASCADE,
    came_at     INTEGER NOT NULL,
    left_at     INTEGER,
    PRIMARY KEY (date_id, attendee_id, came_at)
) STRICT, WITHOUT ROWID;

-- How often the personal link of an attendee was replaced.
CREATE TABLE online_links (
    attendee_id INTEGER PRIMARY KEY REFERENCES attendees (id) ON DELETE CASCADE,
    steps       INTEGER NOT NULL
) STRICT;

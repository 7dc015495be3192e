-- The door in full: devices, doors with names, passages in and out, what devices hand in later.
-- Run with foreign keys off, since a table is rebuilt; they are checked afterwards.

CREATE TABLE devices (
    id             INTEGER PRIMARY KEY,
    name           TEXT NOT NULL,
    -- The dates it is for, as JSON; empty for all that are on.
    dates          TEXT NOT NULL DEFAULT '[]',
    takes_money    INTEGER NOT NULL DEFAULT 0 CHECK (takes_money IN (0, 1)),
    made_at        INTEGER NOT NULL,
    -- Whoever let it join answers for it.
    made_by        INTEGER NOT NULL REFERENCES people (id),
    -- SHA-256 of the letters it joins with, until it has.
    letters_hash   BLOB UNIQUE,
    letters_until  INTEGER,
    -- SHA-256 of its cookie's token, once it has.
    token_hash     BLOB UNIQUE,
    joined_at      INTEGER,
    ends_at        INTEGER NOT NULL,
    sent_away_at   INTEGER,
    sent_away_by   TEXT NOT NULL DEFAULT '',
    -- It has said that it keeps nothing any more.
    wiped_at       INTEGER,
    -- What it said of itself last.
    door           TEXT NOT NULL DEFAULT '',
    seen_at        INTEGER,
    roster_at      INTEGER,
    to_send        INTEGER NOT NULL DEFAULT 0,
    -- How far its clock is behind the house's, in milliseconds.
    behind_ms      INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE INDEX devices_by_end ON devices (ends_at);

-- Doors of a date that have names of their own, and what each is for.
CREATE TABLE doors (
    id       INTEGER PRIMARY KEY,
    date_id  INTEGER NOT NULL REFERENCES dates (id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    name     TEXT NOT NULL,
    -- Ticket types it is for, as JSON; empty for all.
    tickets  TEXT NOT NULL DEFAULT '[]',
    UNIQUE (date_id, name)
) STRICT;

-- Whoever goes out may come in again.
ALTER TABLE dates ADD COLUMN again INTEGER NOT NULL DEFAULT 1 CHECK (again IN (0, 1));
-- The most that may be inside at once; NULL for no limit. Lifted by whom, and why.
ALTER TABLE dates ADD COLUMN most_inside INTEGER CHECK (most_inside >= 0);
ALTER TABLE dates ADD COLUMN lifted_by TEXT NOT NULL DEFAULT '';
ALTER TABLE dates ADD COLUMN lifted_why TEXT NOT NULL DEFAULT '';
-- So many minutes after the start the seats of those who have not come are given up.
ALTER TABLE dates ADD COLUMN give_up_minutes INTEGER CHECK (give_up_minutes BETWEEN 0 AND 1440);
-- Who came and who missed is settled.
ALTER TABLE dates ADD COLUMN list_closed_at INTEGER;
ALTER TABLE dates ADD COLUMN list_closed_by TEXT NOT NULL DEFAULT '';

-- What the organiser wants the door to know of somebody.
ALTER TABLE attendees ADD COLUMN note TEXT NOT NULL DEFAULT '';
ALTER TABLE attendees ADD COLUMN given_up_at INTEGER;
-- Closing the list counted them as missing.
ALTER TABLE attendees ADD COLUMN missed_at_close INTEGER NOT NULL DEFAULT 0 CHECK (missed_at_close IN (0, 1));
ALTER TABLE attendees ADD COLUMN came_late INTEGER NOT NULL DEFAULT 0 CHECK (came_late IN (0, 1));

-- Codes of wristbands and cards that the house has, given to people at the door.
CREATE TABLE house_codes (
    date_id     INTEGER NOT NULL REFERENCES dates (id) ON DELETE CASCADE,
    code        TEXT NOT NULL,
    attendee_id INTEGER NOT NULL REFERENCES attendees (id) ON DELETE CASCADE,
    at          INTEGER NOT NULL,
    who         TEXT NOT NULL,
    PRIMARY KEY (date_id, code)
) STRICT, WITHOUT ROWID;
CREATE INDEX house_codes_by_attendee ON house_codes (attendee_id);

CREATE TABLE scans_2 (
    id          INTEGER PRIMARY KEY,
    -- Given by the device, so that a scan sent twice counts once.
    scan_key    TEXT NOT NULL UNIQUE,
    date_id     INTEGER NOT NULL REFERENCES dates (id),
    attendee_id INTEGER REFERENCES attendees (id),
    verdict     TEXT NOT NULL,
    -- What the page was told, as JSON, so that a repeated scan is told the same.
    told        TEXT NOT NULL,
    door        TEXT NOT NULL,
    person_id   INTEGER NOT NULL REFERENCES people (id),
    device_id   INTEGER REFERENCES devices (id),
    -- When it happened, by the house's clock.
    at          INTEGER NOT NULL,
    -- When it arrived, if that was later: a device had no network.
    arrived_at  INTEGER,
    device_at   INTEGER,
    -- The attendee went through the door.
    passage     TEXT CHECK (passage IN ('in', 'out')),
    -- What somebody has to look into, as JSON.
    line        TEXT,
    looked_at   INTEGER,
    looked_by   TEXT NOT NULL DEFAULT '',
    -- The number of the receipt that the device gave.
    receipt     TEXT NOT NULL DEFAULT '',
    -- The money that was taken with it.
    payment_id  TEXT REFERENCES payments (id),
    undone_at   INTEGER
) STRICT;
INSERT INTO scans_2 (id, scan_key, date_id, attendee_id, verdict, told, door, person_id, at, device_at, passage, undone_at)
    SELECT id, scan_key, date_id, attendee_id, verdict, told, door, person_id, at, device_at,
        CASE WHEN verdict = 'come in' AND attendee_id IS NOT NULL THEN 'in' END, undone_at FROM scans;
DROP TABLE scans;
ALTER TABLE scans_2 RENAME TO scans;
CREATE INDEX scans_by_date ON scans (date_id, id);
CREATE INDEX scans_by_passage ON scans (attendee_id, at) WHERE passage IS NOT NULL AND undone_at IS NULL;
CREATE INDEX scans_with_a_line ON scans (date_id) WHERE line IS NOT NULL;

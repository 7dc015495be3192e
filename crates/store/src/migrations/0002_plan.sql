-- Planning and publishing in full: the house, runs, sessions, slots, tags, pictures, patterns.
-- Run with foreign keys off, since two tables are rebuilt; they are checked afterwards.

-- House ----------------------------------------------------------------------------------------
-- Cancellation steps as JSON: [[days before, percent given back], …], longest before first.
ALTER TABLE house ADD COLUMN steps TEXT NOT NULL DEFAULT '[[14,100],[3,50]]';
-- Sites that may show our stubs inside their pages: one origin a line.
ALTER TABLE house ADD COLUMN embed_sites TEXT NOT NULL DEFAULT '';

CREATE TABLE opening_hours (
    id      INTEGER PRIMARY KEY,
    -- 1 is Monday (ISO 8601).
    weekday INTEGER NOT NULL CHECK (weekday BETWEEN 1 AND 7),
    opens   TEXT NOT NULL,
    closes  TEXT NOT NULL CHECK (closes > opens)
) STRICT;

CREATE TABLE closed_days (
    day TEXT PRIMARY KEY,
    why TEXT NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE tax_rates (
    id         INTEGER PRIMARY KEY,
    name       TEXT NOT NULL UNIQUE COLLATE NOCASE,
    -- Hundredths of a percent.
    basis      INTEGER NOT NULL CHECK (basis BETWEEN 0 AND 10000),
    retired_at INTEGER
) STRICT;

CREATE TABLE tags (
    id          INTEGER PRIMARY KEY,
    name        TEXT NOT NULL UNIQUE COLLATE NOCASE,
    slug        TEXT NOT NULL UNIQUE,
    description TEXT NOT NULL DEFAULT '',
    retired_at  INTEGER
) STRICT;

CREATE TABLE hosts (
    id         INTEGER PRIMARY KEY,
    name       TEXT NOT NULL UNIQUE COLLATE NOCASE,
    about      TEXT NOT NULL DEFAULT '',
    -- The person who signs in as this host, if any.
    person_id  INTEGER REFERENCES people (id),
    retired_at INTEGER
) STRICT;

ALTER TABLE venues ADD COLUMN accessible INTEGER NOT NULL DEFAULT 0 CHECK (accessible IN (0, 1));
ALTER TABLE venues ADD COLUMN retired_at INTEGER;

CREATE TABLE rooms (
    id         INTEGER PRIMARY KEY,
    venue_id   INTEGER NOT NULL REFERENCES venues (id),
    name       TEXT NOT NULL,
    -- The ceiling of every first pool in it; NULL when nobody counted.
    seats      INTEGER CHECK (seats >= 1),
    accessible INTEGER NOT NULL DEFAULT 0 CHECK (accessible IN (0, 1)),
    retired_at INTEGER,
    UNIQUE (venue_id, name)
) STRICT;

-- Who changed what in the house, and when. Only ever added to.
CREATE TABLE changes (
    id    INTEGER PRIMARY KEY,
    at    INTEGER NOT NULL,
    who   TEXT NOT NULL,
    what  TEXT NOT NULL,
    -- Address of the page about it.
    about TEXT NOT NULL
) STRICT;
CREATE TRIGGER changes_stay BEFORE UPDATE ON changes
BEGIN SELECT RAISE(ABORT, 'the log of changes is not rewritten'); END;
CREATE TRIGGER changes_are_kept BEFORE DELETE ON changes
BEGIN SELECT RAISE(ABORT, 'the log of changes is not shortened'); END;

-- More roles: the words are core's to check.
CREATE TABLE people_2 (
    id            INTEGER PRIMARY KEY,
    email         TEXT NOT NULL UNIQUE COLLATE NOCASE,
    name          TEXT NOT NULL,
    -- NULL for people who only book.
    role          TEXT,
    password_hash TEXT,
    member        INTEGER NOT NULL DEFAULT 0 CHECK (member IN (0, 1)),
    made_at       INTEGER NOT NULL,
    CHECK ((role IS NULL) = (password_hash IS NULL))
) STRICT;
INSERT INTO people_2 (id, email, name, role, password_hash, made_at)
    SELECT id, email, name, role, password_hash, made_at FROM people;
DROP TABLE people;
ALTER TABLE people_2 RENAME TO people;

-- Numbers sent by mail to sign in with: only their hashes, for some minutes and some tries.
CREATE TABLE sign_in_codes (
    email      TEXT PRIMARY KEY COLLATE NOCASE,
    code_hash  BLOB NOT NULL,
    expires_at INTEGER NOT NULL,
    tries      INTEGER NOT NULL DEFAULT 0
) STRICT, WITHOUT ROWID;

-- Events ---------------------------------------------------------------------------------------
-- The word on the booking button, when it is not the usual one.
ALTER TABLE events ADD COLUMN button TEXT NOT NULL DEFAULT '';
-- Shown and mailed after booking.
ALTER TABLE events ADD COLUMN after_note TEXT NOT NULL DEFAULT '';
ALTER TABLE events ADD COLUMN listed INTEGER NOT NULL DEFAULT 1 CHECK (listed IN (0, 1));
ALTER TABLE events ADD COLUMN format TEXT NOT NULL DEFAULT 'in person'
    CHECK (format IN ('in person', 'online', 'in person and online'));
ALTER TABLE events ADD COLUMN online_link TEXT NOT NULL DEFAULT '';
ALTER TABLE events ADD COLUMN online_passcode TEXT NOT NULL DEFAULT '';
ALTER TABLE events ADD COLUMN publish_at INTEGER;
ALTER TABLE events ADD COLUMN called_off TEXT NOT NULL DEFAULT '';
-- One booking covers all dates.
ALTER TABLE events ADD COLUMN course INTEGER NOT NULL DEFAULT 0 CHECK (course IN (0, 1));
-- A course that has begun may still be booked, at the price of the dates that are left.
ALTER TABLE events ADD COLUMN latecomers INTEGER NOT NULL DEFAULT 0 CHECK (latecomers IN (0, 1));
-- Who may book, as JSON.
ALTER TABLE events ADD COLUMN who TEXT NOT NULL DEFAULT '"anyone"';
ALTER TABLE events ADD COLUMN approval INTEGER NOT NULL DEFAULT 0 CHECK (approval IN (0, 1));
ALTER TABLE events ADD COLUMN once INTEGER NOT NULL DEFAULT 0 CHECK (once IN (0, 1));
ALTER TABLE events ADD COLUMN changed_at INTEGER NOT NULL DEFAULT 0;
UPDATE events SET changed_at = made_at;
-- Descriptions become HTML: paragraphs as before.
UPDATE events SET description = '<p>' || replace(replace(replace(replace(description,
    '&', '&amp;'), '<', '&lt;'), '>', '&gt;'), char(10) || char(10), '</p><p>') || '</p>'
    WHERE description <> '';
CREATE INDEX events_to_publish ON events (publish_at) WHERE publish_at IS NOT NULL;

-- Addresses an event had before: they lead to it for ever.
CREATE TABLE old_slugs (
    slug     TEXT PRIMARY KEY,
    event_id INTEGER NOT NULL REFERENCES events (id)
) STRICT, WITHOUT ROWID;

CREATE TABLE event_tags (
    event_id INTEGER NOT NULL REFERENCES events (id),
    tag_id   INTEGER NOT NULL REFERENCES tags (id),
    PRIMARY KEY (event_id, tag_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX event_tags_by_tag ON event_tags (tag_id);

CREATE TABLE pictures (
    id       INTEGER PRIMARY KEY,
    event_id INTEGER NOT NULL UNIQUE REFERENCES events (id),
    -- What it shows, for those who cannot see it.
    alt      TEXT NOT NULL,
    width    INTEGER NOT NULL,
    height   INTEGER NOT NULL,
    -- JPEG, for screens and for phones.
    large    BLOB NOT NULL,
    small    BLOB NOT NULL
) STRICT;

-- A saved starting point: an event as JSON, its dates counted in days from its first.
CREATE TABLE patterns (
    id      INTEGER PRIMARY KEY,
    name    TEXT NOT NULL UNIQUE COLLATE NOCASE,
    plan    TEXT NOT NULL,
    made_at INTEGER NOT NULL
) STRICT;

-- Folded words of an event, to search the Programme by.
CREATE VIRTUAL TABLE event_text USING fts5 (words, tokenize = 'unicode61');
CREATE VIRTUAL TABLE event_vocabulary USING fts5vocab (event_text, 'row');

-- Dates ----------------------------------------------------------------------------------------
CREATE TABLE runs (
    id       INTEGER PRIMARY KEY,
    event_id INTEGER NOT NULL REFERENCES events (id),
    -- An RFC 5545 recurrence rule.
    rule     TEXT NOT NULL
) STRICT;

ALTER TABLE dates ADD COLUMN room_id INTEGER REFERENCES rooms (id);
ALTER TABLE dates ADD COLUMN run_id INTEGER REFERENCES runs (id);
-- Why it will not happen; empty while it will.
ALTER TABLE dates ADD COLUMN called_off TEXT NOT NULL DEFAULT '';
-- Counts the changes that calendars must follow (RFC 5545 §3.8.7.4).
ALTER TABLE dates ADD COLUMN sequence INTEGER NOT NULL DEFAULT 0;
ALTER TABLE dates ADD COLUMN setup_minutes INTEGER NOT NULL DEFAULT 0 CHECK (setup_minutes BETWEEN 0 AND 1440);
ALTER TABLE dates ADD COLUMN clearup_minutes INTEGER NOT NULL DEFAULT 0 CHECK (clearup_minutes BETWEEN 0 AND 1440);
INSERT INTO rooms (venue_id, name) SELECT DISTINCT venue_id, room FROM dates WHERE room <> '';
UPDATE dates SET room_id = (SELECT r.id FROM rooms r WHERE r.venue_id = dates.venue_id AND r.name = dates.room);
ALTER TABLE dates DROP COLUMN room;

CREATE TABLE date_hosts (
    date_id INTEGER NOT NULL REFERENCES dates (id),
    host_id INTEGER NOT NULL REFERENCES hosts (id),
    PRIMARY KEY (date_id, host_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX date_hosts_by_host ON date_hosts (host_id);
INSERT OR IGNORE INTO hosts (name) SELECT DISTINCT hosts FROM dates WHERE hosts <> '';
INSERT INTO date_hosts SELECT d.id, h.id FROM dates d JOIN hosts h ON h.name = d.hosts;
ALTER TABLE dates DROP COLUMN hosts;
CREATE INDEX dates_by_start ON dates (starts_at);
-- The longest date, so that an overlap is found between two bounds of the index above.
CREATE INDEX dates_by_length ON dates (ends_at - starts_at);
CREATE INDEX dates_by_room ON dates (room_id, starts_at);

-- Seats taken when a smaller capacity was accepted on purpose: over-full up to here is no fault.
ALTER TABLE pools ADD COLUMN accepted INTEGER NOT NULL DEFAULT 0;

-- A part of a date with its own room, time and seats.
CREATE TABLE date_sessions (
    id        INTEGER PRIMARY KEY,
    date_id   INTEGER NOT NULL REFERENCES dates (id),
    title     TEXT NOT NULL,
    track     TEXT NOT NULL DEFAULT '',
    room_id   INTEGER REFERENCES rooms (id),
    host_id   INTEGER REFERENCES hosts (id),
    starts    TEXT NOT NULL,
    ends      TEXT NOT NULL,
    starts_at INTEGER NOT NULL,
    ends_at   INTEGER NOT NULL CHECK (ends_at > starts_at),
    -- NULL for as many as come.
    seats     INTEGER CHECK (seats >= 1),
    sign_up   INTEGER NOT NULL DEFAULT 0 CHECK (sign_up IN (0, 1))
) STRICT;
CREATE INDEX date_sessions_by_date ON date_sessions (date_id, starts_at);

CREATE TABLE sign_ups (
    session_id  INTEGER NOT NULL REFERENCES date_sessions (id),
    attendee_id INTEGER NOT NULL REFERENCES attendees (id),
    PRIMARY KEY (session_id, attendee_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX sign_ups_by_attendee ON sign_ups (attendee_id);

-- How an event's slots are cut from the opening hours.
CREATE TABLE slot_plans (
    event_id       INTEGER PRIMARY KEY REFERENCES events (id),
    minutes        INTEGER NOT NULL CHECK (minutes BETWEEN 5 AND 720),
    pause          INTEGER NOT NULL CHECK (pause BETWEEN 0 AND 240),
    desks          INTEGER NOT NULL CHECK (desks BETWEEN 1 AND 100),
    -- Booked no later than so many hours before, and no earlier than so many days before.
    notice_hours   INTEGER NOT NULL CHECK (notice_hours >= 0),
    ahead_days     INTEGER NOT NULL CHECK (ahead_days BETWEEN 1 AND 366),
    venue_id       INTEGER NOT NULL REFERENCES venues (id),
    room_id        INTEGER REFERENCES rooms (id),
    -- Slots are cut up to this day.
    cut_until      TEXT NOT NULL DEFAULT ''
) STRICT;

-- Tickets and questions ------------------------------------------------------------------------
ALTER TABLE ticket_types ADD COLUMN tax_rate_id INTEGER REFERENCES tax_rates (id);
ALTER TABLE ticket_types ADD COLUMN member_minor INTEGER CHECK (member_minor >= 0);
-- From so many of it in one booking, each costs this.
ALTER TABLE ticket_types ADD COLUMN group_from INTEGER CHECK (group_from >= 2);
ALTER TABLE ticket_types ADD COLUMN group_minor INTEGER CHECK (group_minor >= 0);
ALTER TABLE ticket_types ADD COLUMN least INTEGER NOT NULL DEFAULT 1 CHECK (least BETWEEN 1 AND 100);
-- Shown only to those who give this word.
ALTER TABLE ticket_types ADD COLUMN code TEXT NOT NULL DEFAULT '';
ALTER TABLE ticket_types ADD COLUMN members_only INTEGER NOT NULL DEFAULT 0 CHECK (members_only IN (0, 1));
-- Addresses it is sold to, as JSON; empty for everybody.
ALTER TABLE ticket_types ADD COLUMN invited TEXT NOT NULL DEFAULT '[]';
ALTER TABLE ticket_types ADD COLUMN closed INTEGER NOT NULL DEFAULT 0 CHECK (closed IN (0, 1));
-- No longer offered, but on bookings.
ALTER TABLE ticket_types ADD COLUMN retired INTEGER NOT NULL DEFAULT 0 CHECK (retired IN (0, 1));

ALTER TABLE questions ADD COLUMN each INTEGER NOT NULL DEFAULT 0 CHECK (each IN (0, 1));
-- Ticket types it is asked for, as JSON; empty for all.
ALTER TABLE questions ADD COLUMN only_tickets TEXT NOT NULL DEFAULT '[]';
ALTER TABLE questions ADD COLUMN retired INTEGER NOT NULL DEFAULT 0 CHECK (retired IN (0, 1));

-- Bookings -------------------------------------------------------------------------------------
-- Answers of the whole booking have no person; the others name one.
CREATE TABLE answers_2 (
    booking_id  INTEGER NOT NULL REFERENCES bookings (id),
    question_id INTEGER NOT NULL REFERENCES questions (id),
    -- -1 for the whole booking.
    person_no   INTEGER NOT NULL DEFAULT -1,
    -- The wording as it was when it was answered.
    label       TEXT NOT NULL,
    answer      TEXT NOT NULL,
    PRIMARY KEY (booking_id, question_id, person_no)
) STRICT, WITHOUT ROWID;
INSERT INTO answers_2 (booking_id, question_id, label, answer)
    SELECT booking_id, question_id, label, answer FROM answers;
DROP TABLE answers;
ALTER TABLE answers_2 RENAME TO answers;
-- Made to try the steps out: takes no seats, counts nowhere.
ALTER TABLE bookings ADD COLUMN test INTEGER NOT NULL DEFAULT 0 CHECK (test IN (0, 1));
-- What was known of the booker when the seats were chosen: the word given, membership,
-- the address proved by signing in.
ALTER TABLE bookings ADD COLUMN word TEXT NOT NULL DEFAULT '';
ALTER TABLE bookings ADD COLUMN member INTEGER NOT NULL DEFAULT 0 CHECK (member IN (0, 1));
ALTER TABLE bookings ADD COLUMN known_as TEXT NOT NULL DEFAULT '';
-- Which person of the booking: a course has a row for each person and date.
ALTER TABLE attendees ADD COLUMN person_no INTEGER NOT NULL DEFAULT 0;
UPDATE attendees SET person_no = position;
CREATE INDEX attendees_by_booking ON attendees (booking_id, person_no);

DROP TRIGGER timeline_is_kept;
CREATE TRIGGER timeline_is_kept BEFORE DELETE ON timeline
WHEN NOT EXISTS (SELECT 1 FROM bookings b WHERE b.id = OLD.booking_id AND b.test = 1)
BEGIN SELECT RAISE(ABORT, 'the timeline is not shortened'); END;

-- More kinds of messages, and what they need to remember.
CREATE TABLE outbox_2 (
    id          INTEGER PRIMARY KEY,
    unique_key  TEXT NOT NULL UNIQUE,
    booking_id  INTEGER NOT NULL REFERENCES bookings (id),
    kind        TEXT NOT NULL CHECK (kind IN ('confirmation', 'cancellation', 'called off', 'moved',
                    'approval', 'refusal')),
    address     TEXT NOT NULL,
    message_id  TEXT NOT NULL UNIQUE,
    -- A reason, or how it was before.
    note        TEXT NOT NULL DEFAULT '',
    state       TEXT NOT NULL CHECK (state IN ('planned', 'sending', 'sent', 'failed', 'withdrawn')),
    planned_at  INTEGER NOT NULL,
    next_try_at INTEGER,
    tries       INTEGER NOT NULL DEFAULT 0,
    sent_at     INTEGER,
    last_error  TEXT,
    CHECK ((state = 'planned') = (next_try_at IS NOT NULL)),
    CHECK ((state = 'sent') = (sent_at IS NOT NULL))
) STRICT;
INSERT INTO outbox_2 SELECT id, unique_key, booking_id, kind, address, message_id, '', state, planned_at,
    next_try_at, tries, sent_at, last_error FROM outbox;
DROP TABLE outbox;
ALTER TABLE outbox_2 RENAME TO outbox;
CREATE INDEX outbox_due ON outbox (next_try_at) WHERE next_try_at IS NOT NULL;
CREATE INDEX outbox_by_booking ON outbox (booking_id);

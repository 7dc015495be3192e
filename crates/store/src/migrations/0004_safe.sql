-- Safe to stand open, and to keep for ten years.

-- What runs by itself --------------------------------------------------------------------------
-- A row that could not be done: set aside with its reason, and tried again later.
CREATE TABLE set_aside (
    -- Which work, such as 'deadlines', and which row of it.
    work        TEXT NOT NULL,
    about       TEXT NOT NULL,
    -- The booking it concerns, if any.
    booking_id  INTEGER REFERENCES bookings (id) ON DELETE CASCADE,
    reason      TEXT NOT NULL,
    tries       INTEGER NOT NULL DEFAULT 1,
    first_at    INTEGER NOT NULL,
    next_try_at INTEGER NOT NULL,
    PRIMARY KEY (work, about)
) STRICT, WITHOUT ROWID;
CREATE INDEX outbox_sending ON outbox (id) WHERE state = 'sending';
-- A webhook of a kind we do not know is taken, and noted.
ALTER TABLE hooks_taken ADD COLUMN note TEXT NOT NULL DEFAULT '';

-- Who may come in ------------------------------------------------------------------------------
-- Sessions now say how they were opened: only a password gives the rights of a role. Those
-- from before cannot say it; everybody signs in once more.
DROP TABLE sessions;
CREATE TABLE sessions (
    -- SHA-256 of the cookie's token: the file alone opens no session.
    token_hash BLOB PRIMARY KEY,
    person_id  INTEGER NOT NULL REFERENCES people (id) ON DELETE CASCADE,
    -- Opened with a password, so with the rights of a role.
    staff      INTEGER NOT NULL CHECK (staff IN (0, 1)),
    made_at    INTEGER NOT NULL,
    expires_at INTEGER NOT NULL,
    -- What the browser called itself, shortened, for the list of one's own sessions.
    browser    TEXT NOT NULL DEFAULT ''
) STRICT, WITHOUT ROWID;
CREATE INDEX sessions_by_person ON sessions (person_id);

-- Numbers mailed to sign in with, each bound to the browser that asked for it. Kept for an
-- hour, so that mails and tries are counted by address.
DROP TABLE sign_in_codes;
CREATE TABLE sign_in_codes (
    id         INTEGER PRIMARY KEY,
    email      TEXT NOT NULL COLLATE NOCASE,
    -- A hash of the browser's cookie.
    browser    BLOB NOT NULL,
    code_hash  BLOB NOT NULL,
    made_at    INTEGER NOT NULL,
    expires_at INTEGER NOT NULL,
    tries      INTEGER NOT NULL DEFAULT 0,
    used       INTEGER NOT NULL DEFAULT 0 CHECK (used IN (0, 1))
) STRICT;
CREATE INDEX sign_in_codes_by_email ON sign_in_codes (email, made_at);

-- Sign-ins, failures, roles given and taken, files taken away. Only ever added to.
CREATE TABLE audit (
    id   INTEGER PRIMARY KEY,
    at   INTEGER NOT NULL,
    who  TEXT NOT NULL,
    what TEXT NOT NULL,
    -- The network it came from, shortened.
    from_where TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX audit_by_time ON audit (at);
CREATE TRIGGER audit_stays BEFORE UPDATE ON audit
BEGIN SELECT RAISE(ABORT, 'the audit log is not rewritten'); END;

-- Which browser and network keep seats, as keyed hashes, and by which address: so that one
-- person cannot keep them all. 0 is unknown.
ALTER TABLE bookings ADD COLUMN by_browser INTEGER NOT NULL DEFAULT 0;
ALTER TABLE bookings ADD COLUMN by_network INTEGER NOT NULL DEFAULT 0;
CREATE INDEX bookings_kept ON bookings (date_id, by_network)
    WHERE state IN ('held', 'requested', 'awaiting payment') AND by_network <> 0;
CREATE INDEX bookings_kept_by_browser ON bookings (date_id, by_browser)
    WHERE state IN ('held', 'requested', 'awaiting payment') AND by_browser <> 0;
-- The earliest start of the dates that the booker has moved it away from: cancelling gives
-- back by that one, so that moving first gains nothing.
ALTER TABLE bookings ADD COLUMN steps_from INTEGER;

-- Dates ----------------------------------------------------------------------------------------
-- When something about this date changed, for calendars; NULL for when its event did.
ALTER TABLE dates ADD COLUMN changed_at INTEGER;
-- An organiser opened its door on another day than its own.
ALTER TABLE dates ADD COLUMN door_opened_at INTEGER;
ALTER TABLE dates ADD COLUMN door_opened_by TEXT NOT NULL DEFAULT '';

-- From a published event to a person let in.
-- Instants are integer microseconds since 1970-01-01T00:00Z. Money is whole minor units.

CREATE TABLE house (
    id          INTEGER PRIMARY KEY CHECK (id = 1),
    name        TEXT NOT NULL,
    currency    TEXT NOT NULL,
    zone        TEXT NOT NULL,
    email       TEXT NOT NULL,
    terms       TEXT NOT NULL
) STRICT;

CREATE TABLE people (
    id            INTEGER PRIMARY KEY,
    email         TEXT NOT NULL UNIQUE COLLATE NOCASE,
    name          TEXT NOT NULL,
    -- NULL for people who only book.
    role          TEXT CHECK (role IN ('administrator', 'organiser', 'door volunteer')),
    password_hash TEXT,
    made_at       INTEGER NOT NULL,
    CHECK ((role IS NULL) = (password_hash IS NULL))
) STRICT;

CREATE TABLE sessions (
    -- SHA-256 of the cookie's token: the file alone opens no session.
    token_hash BLOB PRIMARY KEY,
    person_id  INTEGER NOT NULL REFERENCES people (id) ON DELETE CASCADE,
    expires_at INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE venues (
    id         INTEGER PRIMARY KEY,
    name       TEXT NOT NULL UNIQUE,
    address    TEXT NOT NULL,
    directions TEXT NOT NULL DEFAULT ''
) STRICT;

CREATE TABLE events (
    id           INTEGER PRIMARY KEY,
    slug         TEXT NOT NULL UNIQUE,
    title        TEXT NOT NULL,
    kind         TEXT NOT NULL,
    lead         TEXT NOT NULL,
    description  TEXT NOT NULL,
    bring        TEXT NOT NULL DEFAULT '',
    refund_note  TEXT NOT NULL DEFAULT '',
    state        TEXT NOT NULL CHECK (state IN ('draft', 'published', 'called off', 'past')),
    hold_minutes INTEGER NOT NULL DEFAULT 15 CHECK (hold_minutes BETWEEN 1 AND 240),
    made_at      INTEGER NOT NULL
) STRICT;

CREATE TABLE dates (
    id        INTEGER PRIMARY KEY,
    event_id  INTEGER NOT NULL REFERENCES events (id),
    -- Local wall time, RFC 9557 without offset, and its IANA zone; the instants follow from them.
    starts    TEXT NOT NULL,
    ends      TEXT NOT NULL,
    zone      TEXT NOT NULL,
    starts_at INTEGER NOT NULL,
    ends_at   INTEGER NOT NULL CHECK (ends_at > starts_at),
    venue_id  INTEGER NOT NULL REFERENCES venues (id),
    room      TEXT NOT NULL DEFAULT '',
    hosts     TEXT NOT NULL DEFAULT '',
    -- People who are in; moved only by `door::set_presence`.
    inside    INTEGER NOT NULL DEFAULT 0 CHECK (inside >= 0)
) STRICT;
CREATE INDEX dates_by_event ON dates (event_id, starts_at);
CREATE INDEX dates_by_end ON dates (ends_at);

-- What an event counts: seats, microscopes, suits. Position 0 is the one its strip shows.
CREATE TABLE pool_kinds (
    id       INTEGER PRIMARY KEY,
    event_id INTEGER NOT NULL REFERENCES events (id),
    position INTEGER NOT NULL,
    name     TEXT NOT NULL,
    UNIQUE (event_id, position)
) STRICT;

-- Counters by reason, moved only by `bookings::set_state`, which core tells how.
CREATE TABLE pools (
    id               INTEGER PRIMARY KEY,
    date_id          INTEGER NOT NULL REFERENCES dates (id),
    kind_id          INTEGER NOT NULL REFERENCES pool_kinds (id),
    capacity         INTEGER NOT NULL CHECK (capacity >= 0),
    held             INTEGER NOT NULL DEFAULT 0 CHECK (held >= 0),
    requested        INTEGER NOT NULL DEFAULT 0 CHECK (requested >= 0),
    awaiting_payment INTEGER NOT NULL DEFAULT 0 CHECK (awaiting_payment >= 0),
    confirmed        INTEGER NOT NULL DEFAULT 0 CHECK (confirmed >= 0),
    UNIQUE (date_id, kind_id)
) STRICT;

CREATE TABLE ticket_types (
    id          INTEGER PRIMARY KEY,
    event_id    INTEGER NOT NULL REFERENCES events (id),
    position    INTEGER NOT NULL,
    name        TEXT NOT NULL,
    note        TEXT NOT NULL DEFAULT '',
    minor       INTEGER NOT NULL CHECK (minor >= 0),
    early_minor INTEGER CHECK (early_minor >= 0),
    early_until INTEGER,
    sale_from   INTEGER,
    sale_until  INTEGER,
    -- How many of it for one date; NULL for as many as the pools hold.
    per_date    INTEGER CHECK (per_date >= 0),
    most        INTEGER NOT NULL DEFAULT 10 CHECK (most BETWEEN 1 AND 100),
    -- People one ticket lets in: each is an attendee with a code.
    admits      INTEGER NOT NULL CHECK (admits BETWEEN 1 AND 20),
    UNIQUE (event_id, position),
    CHECK ((early_minor IS NULL) = (early_until IS NULL))
) STRICT;

CREATE TABLE draws (
    ticket_type_id INTEGER NOT NULL REFERENCES ticket_types (id),
    kind_id        INTEGER NOT NULL REFERENCES pool_kinds (id),
    seats          INTEGER NOT NULL CHECK (seats >= 1),
    PRIMARY KEY (ticket_type_id, kind_id)
) STRICT, WITHOUT ROWID;

CREATE TABLE questions (
    id        INTEGER PRIMARY KEY,
    event_id  INTEGER NOT NULL REFERENCES events (id),
    position  INTEGER NOT NULL,
    label     TEXT NOT NULL,
    answering TEXT NOT NULL,
    needed    INTEGER NOT NULL CHECK (needed IN (0, 1))
) STRICT;
CREATE INDEX questions_by_event ON questions (event_id, position);

CREATE TABLE bookings (
    id           INTEGER PRIMARY KEY,
    reference    TEXT NOT NULL UNIQUE,
    date_id      INTEGER NOT NULL REFERENCES dates (id),
    state        TEXT NOT NULL CHECK (state IN ('held', 'requested', 'awaiting payment',
                     'confirmed', 'declined', 'cancelled', 'lapsed')),
    -- Deadline of the hold or of the payment, while there is one.
    deadline     INTEGER,
    total_minor  INTEGER NOT NULL CHECK (total_minor >= 0),
    paid_minor   INTEGER NOT NULL DEFAULT 0,
    -- What has been typed so far, as JSON; the columns below once it is complete.
    draft        TEXT NOT NULL DEFAULT '{}',
    name         TEXT NOT NULL DEFAULT '',
    email        TEXT NOT NULL DEFAULT '',
    person_id    INTEGER REFERENCES people (id),
    -- Folded words to find it by.
    search       TEXT NOT NULL DEFAULT '',
    made_at      INTEGER NOT NULL,
    CHECK ((state IN ('held', 'awaiting payment')) = (deadline IS NOT NULL))
) STRICT;
CREATE INDEX bookings_by_date ON bookings (date_id, state);
CREATE INDEX bookings_by_deadline ON bookings (deadline) WHERE deadline IS NOT NULL;
CREATE INDEX bookings_by_time ON bookings (made_at);

CREATE TABLE booking_lines (
    booking_id     INTEGER NOT NULL REFERENCES bookings (id),
    ticket_type_id INTEGER NOT NULL REFERENCES ticket_types (id),
    position       INTEGER NOT NULL,
    name           TEXT NOT NULL,
    quantity       INTEGER NOT NULL CHECK (quantity > 0),
    base_minor     INTEGER NOT NULL,
    unit_minor     INTEGER NOT NULL,
    PRIMARY KEY (booking_id, ticket_type_id)
) STRICT, WITHOUT ROWID;

CREATE TABLE booking_draws (
    booking_id INTEGER NOT NULL REFERENCES bookings (id),
    pool_id    INTEGER NOT NULL REFERENCES pools (id),
    seats      INTEGER NOT NULL CHECK (seats > 0),
    PRIMARY KEY (booking_id, pool_id)
) STRICT, WITHOUT ROWID;

CREATE TABLE attendees (
    id          INTEGER PRIMARY KEY,
    booking_id  INTEGER NOT NULL REFERENCES bookings (id),
    date_id     INTEGER NOT NULL REFERENCES dates (id),
    position    INTEGER NOT NULL,
    ticket_name TEXT NOT NULL,
    name        TEXT NOT NULL DEFAULT '',
    search      TEXT NOT NULL DEFAULT '',
    code        TEXT NOT NULL UNIQUE,
    presence    TEXT NOT NULL DEFAULT 'expected'
                    CHECK (presence IN ('expected', 'in', 'left', 'missed')),
    in_at       INTEGER,
    in_door     TEXT,
    UNIQUE (booking_id, position),
    CHECK ((presence = 'in') = (in_at IS NOT NULL AND in_door IS NOT NULL))
) STRICT;
CREATE INDEX attendees_by_date ON attendees (date_id, presence);

CREATE TABLE answers (
    booking_id  INTEGER NOT NULL REFERENCES bookings (id),
    question_id INTEGER NOT NULL REFERENCES questions (id),
    -- The wording as it was when it was answered.
    label       TEXT NOT NULL,
    answer      TEXT NOT NULL,
    PRIMARY KEY (booking_id, question_id)
) STRICT, WITHOUT ROWID;

CREATE TABLE payments (
    -- A UUID, given to the provider as the idempotency key.
    id            TEXT PRIMARY KEY,
    booking_id    INTEGER NOT NULL REFERENCES bookings (id),
    provider_id   TEXT UNIQUE,
    pay_url       TEXT,
    amount_minor  INTEGER NOT NULL CHECK (amount_minor > 0),
    -- 'surplus' is money that came for a booking that no longer wanted it.
    state         TEXT NOT NULL CHECK (state IN ('open', 'paid', 'declined', 'withdrawn', 'surplus')),
    made_at       INTEGER NOT NULL,
    settled_at    INTEGER,
    -- When to ask the provider next; NULL once settled.
    next_check_at INTEGER,
    tries         INTEGER NOT NULL DEFAULT 0,
    -- The booking no longer wants the money: the provider must be told.
    unwanted      INTEGER NOT NULL DEFAULT 0 CHECK (unwanted IN (0, 1)),
    CHECK ((state = 'open') = (next_check_at IS NOT NULL))
) STRICT, WITHOUT ROWID;
CREATE INDEX payments_by_booking ON payments (booking_id);
CREATE INDEX payments_to_check ON payments (next_check_at) WHERE next_check_at IS NOT NULL;

-- Webhooks already taken, by their id, so that a doubled one does nothing twice.
CREATE TABLE hooks_taken (
    webhook_id TEXT PRIMARY KEY,
    taken_at   INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE outbox (
    id          INTEGER PRIMARY KEY,
    -- One message of a kind for a booking: planning it twice plans it once.
    unique_key  TEXT NOT NULL UNIQUE,
    booking_id  INTEGER NOT NULL REFERENCES bookings (id),
    kind        TEXT NOT NULL CHECK (kind IN ('confirmation', 'cancellation')),
    address     TEXT NOT NULL,
    message_id  TEXT NOT NULL UNIQUE,
    -- 'sending' is being handed over; found at a start, it may have got through or not.
    state       TEXT NOT NULL CHECK (state IN ('planned', 'sending', 'sent', 'failed', 'withdrawn')),
    planned_at  INTEGER NOT NULL,
    next_try_at INTEGER,
    tries       INTEGER NOT NULL DEFAULT 0,
    sent_at     INTEGER,
    last_error  TEXT,
    CHECK ((state = 'planned') = (next_try_at IS NOT NULL)),
    CHECK ((state = 'sent') = (sent_at IS NOT NULL))
) STRICT;
CREATE INDEX outbox_due ON outbox (next_try_at) WHERE next_try_at IS NOT NULL;
CREATE INDEX outbox_by_booking ON outbox (booking_id);

CREATE TABLE scans (
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
    at          INTEGER NOT NULL,
    undone_at   INTEGER
) STRICT;
CREATE INDEX scans_by_date ON scans (date_id, id);

-- What happened with a booking. Only ever added to.
CREATE TABLE timeline (
    id         INTEGER PRIMARY KEY,
    booking_id INTEGER NOT NULL REFERENCES bookings (id),
    at         INTEGER NOT NULL,
    who        TEXT NOT NULL,
    what       TEXT NOT NULL
) STRICT;
CREATE INDEX timeline_by_booking ON timeline (booking_id, id);
CREATE TRIGGER timeline_stays BEFORE UPDATE ON timeline
BEGIN SELECT RAISE(ABORT, 'the timeline is not rewritten'); END;
CREATE TRIGGER timeline_is_kept BEFORE DELETE ON timeline
BEGIN SELECT RAISE(ABORT, 'the timeline is not shortened'); END;

-- Invitations; bookings and money in full.
-- Run with foreign keys off, since a table is rebuilt; they are checked afterwards.

-- Messages may be about an event rather than a booking. The kinds are core's to check.
CREATE TABLE outbox_3 (
    id          INTEGER PRIMARY KEY,
    -- One message of a kind about a thing: planning it twice plans it once.
    unique_key  TEXT NOT NULL UNIQUE,
    booking_id  INTEGER REFERENCES bookings (id),
    event_id    INTEGER REFERENCES events (id),
    kind        TEXT NOT NULL,
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
    CHECK ((booking_id IS NULL) <> (event_id IS NULL)),
    CHECK ((state = 'planned') = (next_try_at IS NOT NULL)),
    CHECK ((state = 'sent') = (sent_at IS NOT NULL))
) STRICT;
INSERT INTO outbox_3 SELECT id, unique_key, booking_id, NULL, kind, address, message_id, note, state,
    planned_at, next_try_at, tries, sent_at, last_error FROM outbox;
DROP TABLE outbox;
ALTER TABLE outbox_3 RENAME TO outbox;
CREATE INDEX outbox_due ON outbox (next_try_at) WHERE next_try_at IS NOT NULL;
CREATE INDEX outbox_by_booking ON outbox (booking_id) WHERE booking_id IS NOT NULL;
CREATE INDEX outbox_by_event ON outbox (event_id) WHERE event_id IS NOT NULL;

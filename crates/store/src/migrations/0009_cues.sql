-- Messages that plan themselves: templates, cues, one outbox for every way, what is to be followed.
-- Run with foreign keys off, since a table is rebuilt; they are checked afterwards.

CREATE TABLE templates (
    id         INTEGER PRIMARY KEY,
    -- NULL for the house's.
    event_id   INTEGER REFERENCES events (id),
    name       TEXT NOT NULL,
    subject    TEXT NOT NULL,
    -- Sanitised HTML with fields in double braces; plain words for text messages and the chat.
    body       TEXT NOT NULL,
    -- The text part written by hand; empty when it is made from the body.
    plain      TEXT NOT NULL DEFAULT '',
    -- What goes with it, as JSON.
    files      TEXT NOT NULL DEFAULT '[]',
    -- The program's own wording that it began as; NULL for one of the house's.
    standard   TEXT UNIQUE,
    changed_at INTEGER NOT NULL,
    -- Changed by hand: what the program words anew later leaves it alone.
    own_words  INTEGER NOT NULL DEFAULT 0 CHECK (own_words IN (0, 1)),
    retired_at INTEGER
) STRICT;
CREATE INDEX templates_by_event ON templates (event_id);

-- Earlier wordings. Only ever added to.
CREATE TABLE wordings (
    id          INTEGER PRIMARY KEY,
    template_id INTEGER NOT NULL REFERENCES templates (id),
    at          INTEGER NOT NULL,
    who         TEXT NOT NULL,
    subject     TEXT NOT NULL,
    body        TEXT NOT NULL,
    plain       TEXT NOT NULL
) STRICT;
CREATE INDEX wordings_by_template ON wordings (template_id, id);

-- Names and addresses to write from.
CREATE TABLE senders (
    id         INTEGER PRIMARY KEY,
    name       TEXT NOT NULL,
    email      TEXT NOT NULL,
    -- For events with this tag; NULL for those that ask for it by themselves.
    tag_id     INTEGER REFERENCES tags (id),
    retired_at INTEGER
) STRICT;
ALTER TABLE events ADD COLUMN sender_id INTEGER REFERENCES senders (id);

CREATE TABLE cues (
    id          INTEGER PRIMARY KEY,
    -- NULL for the house's.
    event_id    INTEGER REFERENCES events (id),
    -- The house's cue that an event's own stands in place of.
    instead_of  INTEGER REFERENCES cues (id),
    active      INTEGER NOT NULL DEFAULT 1 CHECK (active IN (0, 1)),
    happens     TEXT NOT NULL,
    -- JSON: when, to whom, only for, for late bookers.
    at          TEXT NOT NULL,
    whom        TEXT NOT NULL,
    only        TEXT NOT NULL DEFAULT '{}',
    way         TEXT NOT NULL,
    template_id INTEGER NOT NULL REFERENCES templates (id),
    late        TEXT NOT NULL,
    added_at    INTEGER NOT NULL,
    -- Those who had booked when it was added, after its minute for them, get it at once.
    already     INTEGER NOT NULL DEFAULT 0 CHECK (already IN (0, 1)),
    since       INTEGER,
    -- The program's own cue that it began as.
    standard    TEXT UNIQUE,
    removed_at  INTEGER
) STRICT;
CREATE INDEX cues_by_event ON cues (event_id);
CREATE UNIQUE INDEX cues_instead ON cues (event_id, instead_of) WHERE instead_of IS NOT NULL AND removed_at IS NULL;

-- One outbox for every way.
CREATE TABLE outbox_4 (
    id          INTEGER PRIMARY KEY,
    -- One cue, one reader, one date, one happening: planning it twice plans it once.
    unique_key  TEXT NOT NULL UNIQUE,
    cue_id      INTEGER REFERENCES cues (id),
    -- NULL for the standard wording of what happened.
    template_id INTEGER REFERENCES templates (id),
    -- The occasion or the moment.
    happened    TEXT NOT NULL,
    way         TEXT NOT NULL,
    -- Who, as cues tell them apart.
    reader      TEXT NOT NULL DEFAULT '',
    booking_id  INTEGER REFERENCES bookings (id),
    event_id    INTEGER REFERENCES events (id),
    -- Somebody of the house, for what they asked to be told each day.
    person_id   INTEGER REFERENCES people (id),
    date_id     INTEGER REFERENCES dates (id),
    waiter_id   INTEGER REFERENCES waiting (id),
    announcement_id INTEGER,
    address     TEXT NOT NULL,
    message_id  TEXT NOT NULL UNIQUE,
    -- What the occasion knew, as JSON.
    knows       TEXT NOT NULL DEFAULT '{}',
    state       TEXT NOT NULL
                CHECK (state IN ('planned', 'sending', 'sent', 'failed', 'withdrawn', 'skipped')),
    -- Why it stands so.
    reason      TEXT NOT NULL DEFAULT '',
    -- Its minute, and whether somebody gave it another by hand.
    planned_at  INTEGER NOT NULL,
    by_hand     INTEGER NOT NULL DEFAULT 0 CHECK (by_hand IN (0, 1)),
    next_try_at INTEGER,
    -- Mass mail goes after all else.
    bulk        INTEGER NOT NULL DEFAULT 0 CHECK (bulk IN (0, 1)),
    tries       INTEGER NOT NULL DEFAULT 0,
    sent_at     INTEGER,
    -- What the other side answered; who rang.
    answer      TEXT NOT NULL DEFAULT '',
    last_error  TEXT,
    CHECK ((booking_id IS NOT NULL) + (event_id IS NOT NULL) + (person_id IS NOT NULL) = 1),
    CHECK ((state = 'planned') = (next_try_at IS NOT NULL) OR way = 'telephone'),
    CHECK ((state = 'sent') = (sent_at IS NOT NULL))
) STRICT;
INSERT INTO outbox_4 (id, unique_key, happened, way, reader, booking_id, event_id, waiter_id, address, message_id,
        knows, state, reason, planned_at, next_try_at, tries, sent_at, last_error)
    SELECT o.id, o.unique_key, o.kind, 'mail',
        CASE WHEN o.booking_id IS NOT NULL THEN 'b' || o.booking_id ELSE 'a' || lower(o.address) END,
        o.booking_id, o.event_id,
        CASE WHEN o.kind IN ('place on the waiting list', 'offer', 'seats free')
            THEN (SELECT w.id FROM waiting w WHERE w.id = CAST(o.note AS INTEGER)) END,
        o.address, o.message_id,
        CASE WHEN o.kind = 'ticket passed on' THEN json_object('person', CAST(o.note AS INTEGER))
             WHEN o.kind IN ('moved', 'change') THEN json_object('change', o.note)
             WHEN o.note = '' OR o.kind IN ('place on the waiting list', 'offer', 'seats free') THEN '{}'
             ELSE json_object('reason', o.note) END,
        o.state, CASE o.state WHEN 'withdrawn' THEN 'not true any more' ELSE '' END,
        o.planned_at, o.next_try_at, o.tries, o.sent_at, o.last_error
    FROM outbox o;
-- Whoever is to be rung, or was.
INSERT INTO outbox_4 (unique_key, happened, way, reader, booking_id, address, message_id, knows, state,
        planned_at, sent_at, answer)
    SELECT 'ring ' || r.id, r.kind, 'telephone', 'b' || r.booking_id, r.booking_id, b.phone, 'ring.' || r.id,
        json_object(CASE r.kind WHEN 'moved' THEN 'change' ELSE 'reason' END, r.note),
        CASE WHEN r.rung_at IS NULL THEN 'planned' ELSE 'sent' END, r.made_at, r.rung_at, r.rung_by
    FROM rings r JOIN bookings b ON b.id = r.booking_id;
DROP TABLE rings;
DROP TABLE outbox;
ALTER TABLE outbox_4 RENAME TO outbox;
CREATE INDEX outbox_due ON outbox (bulk, next_try_at) WHERE next_try_at IS NOT NULL;
CREATE INDEX outbox_by_booking ON outbox (booking_id) WHERE booking_id IS NOT NULL;
CREATE INDEX outbox_by_event ON outbox (event_id) WHERE event_id IS NOT NULL;
CREATE INDEX outbox_by_date ON outbox (date_id) WHERE date_id IS NOT NULL;
CREATE INDEX outbox_by_person ON outbox (person_id, state, planned_at) WHERE person_id IS NOT NULL;
CREATE INDEX outbox_notices ON outbox (event_id, sent_at) WHERE way = 'notice' AND state = 'sent';
CREATE INDEX outbox_by_minute ON outbox (planned_at);
CREATE INDEX outbox_in_trouble ON outbox (id) WHERE state = 'failed' OR last_error IS NOT NULL;
CREATE INDEX outbox_to_ring ON outbox (id) WHERE way = 'telephone' AND state = 'planned';
CREATE INDEX outbox_sending ON outbox (id) WHERE state = 'sending';

-- What was said, word for word, packed; files by name, length and digest.
CREATE TABLE said (
    outbox_id INTEGER PRIMARY KEY REFERENCES outbox (id),
    subject   TEXT NOT NULL,
    packed    BLOB NOT NULL
) STRICT;

-- Addresses that refused a mail for good, or want no announcements.
CREATE TABLE addresses (
    email           TEXT PRIMARY KEY COLLATE NOCASE,
    refused_at      INTEGER,
    refusal         TEXT NOT NULL DEFAULT '',
    unsubscribed_at INTEGER
) STRICT, WITHOUT ROWID;

-- Somebody a ticket was passed to has an address of their own.
ALTER TABLE attendees ADD COLUMN email TEXT NOT NULL DEFAULT '';

-- What changed since what is planned was last brought to what bookings and dates say. `n` tells
-- whether it changed again while that was worked out.
CREATE TABLE to_follow (
    booking_id INTEGER PRIMARY KEY,
    n          INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE TABLE to_follow_dates (
    date_id INTEGER PRIMARY KEY,
    n       INTEGER NOT NULL DEFAULT 0,
    -- Bookings up to this key are done.
    done_to INTEGER NOT NULL DEFAULT 0
) STRICT;

CREATE TRIGGER bookings_followed AFTER UPDATE OF state, date_id, name, email, phone, deadline ON bookings
    WHEN NEW.state IN ('confirmed', 'awaiting payment') OR OLD.state IN ('confirmed', 'awaiting payment')
BEGIN INSERT INTO to_follow (booking_id) VALUES (NEW.id) ON CONFLICT DO UPDATE SET n = n + 1; END;
CREATE TRIGGER attendees_followed AFTER UPDATE OF ticket_type_id, cancelled_at, email, date_id ON attendees
    WHEN EXISTS (SELECT 1 FROM bookings b WHERE b.id = NEW.booking_id AND b.state IN ('confirmed', 'awaiting payment'))
BEGIN INSERT INTO to_follow (booking_id) VALUES (NEW.booking_id) ON CONFLICT DO UPDATE SET n = n + 1; END;
CREATE TRIGGER attendees_added_followed AFTER INSERT ON attendees
    WHEN EXISTS (SELECT 1 FROM bookings b WHERE b.id = NEW.booking_id AND b.state IN ('confirmed', 'awaiting payment'))
BEGIN INSERT INTO to_follow (booking_id) VALUES (NEW.booking_id) ON CONFLICT DO UPDATE SET n = n + 1; END;
CREATE TRIGGER answers_followed AFTER UPDATE OF answer ON answers
    WHEN EXISTS (SELECT 1 FROM bookings b WHERE b.id = NEW.booking_id AND b.state IN ('confirmed', 'awaiting payment'))
BEGIN INSERT INTO to_follow (booking_id) VALUES (NEW.booking_id) ON CONFLICT DO UPDATE SET n = n + 1; END;
CREATE TRIGGER dates_followed AFTER UPDATE OF starts, ends, zone, called_off ON dates
    WHEN NEW.starts <> OLD.starts OR NEW.ends <> OLD.ends OR NEW.zone <> OLD.zone OR NEW.called_off <> OLD.called_off
BEGIN INSERT INTO to_follow_dates (date_id) VALUES (NEW.id) ON CONFLICT DO UPDATE SET n = n + 1, done_to = 0; END;
CREATE TRIGGER dates_added_followed AFTER INSERT ON dates
BEGIN INSERT INTO to_follow_dates (date_id) VALUES (NEW.id) ON CONFLICT DO UPDATE SET n = n + 1, done_to = 0; END;
CREATE TRIGGER events_followed AFTER UPDATE OF state, format ON events
    WHEN NEW.state <> OLD.state OR NEW.format <> OLD.format
BEGIN INSERT INTO to_follow_dates (date_id) SELECT d.id FROM dates d WHERE d.event_id = NEW.id
    ON CONFLICT DO UPDATE SET n = n + 1, done_to = 0; END;
CREATE TRIGGER date_hosts_added_followed AFTER INSERT ON date_hosts
BEGIN INSERT INTO to_follow_dates (date_id) VALUES (NEW.date_id) ON CONFLICT DO UPDATE SET n = n + 1, done_to = 0; END;
CREATE TRIGGER date_hosts_removed_followed AFTER DELETE ON date_hosts
BEGIN INSERT INTO to_follow_dates (date_id) VALUES (OLD.date_id) ON CONFLICT DO UPDATE SET n = n + 1, done_to = 0; END;
CREATE TRIGGER ticket_types_followed AFTER UPDATE OF sale_from, sale_until ON ticket_types
BEGIN INSERT INTO to_follow_dates (date_id) SELECT d.id FROM dates d WHERE d.event_id = NEW.event_id
    ON CONFLICT DO UPDATE SET n = n + 1, done_to = 0; END;
CREATE TRIGGER event_tags_added_followed AFTER INSERT ON event_tags
BEGIN INSERT INTO to_follow_dates (date_id) SELECT d.id FROM dates d WHERE d.event_id = NEW.event_id
    ON CONFLICT DO UPDATE SET n = n + 1, done_to = 0; END;
CREATE TRIGGER event_tags_removed_followed AFTER DELETE ON event_tags
BEGIN INSERT INTO to_follow_dates (date_id) SELECT d.id FROM dates d WHERE d.event_id = OLD.event_id
    ON CONFLICT DO UPDATE SET n = n + 1, done_to = 0; END;
-- A cue reaches the dates of its event, or all.
CREATE TRIGGER cues_added_followed AFTER INSERT ON cues
BEGIN INSERT INTO to_follow_dates (date_id) SELECT d.id FROM dates d
    WHERE NEW.event_id IS NULL OR d.event_id = NEW.event_id
    ON CONFLICT DO UPDATE SET n = n + 1, done_to = 0; END;
CREATE TRIGGER cues_followed AFTER UPDATE ON cues
BEGIN INSERT INTO to_follow_dates (date_id) SELECT d.id FROM dates d
    WHERE NEW.event_id IS NULL OR d.event_id = NEW.event_id
    ON CONFLICT DO UPDATE SET n = n + 1, done_to = 0; END;
CREATE TRIGGER cues_added AFTER INSERT ON cues BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER cues_changed AFTER UPDATE ON cues BEGIN UPDATE plan_version SET n = n + 1; END;

-- A stamp card that was bought tells before it expires, by the booking that bought it.
CREATE TRIGGER cards_followed AFTER UPDATE OF left, expires_at ON cards
    WHEN NEW.booking_id IS NOT NULL AND NEW.expires_at IS NOT NULL
BEGIN INSERT INTO to_follow (booking_id) VALUES (NEW.booking_id) ON CONFLICT DO UPDATE SET n = n + 1; END;
CREATE TRIGGER card_cues_added_followed AFTER INSERT ON cues WHEN NEW.happens = 'a stamp card expires'
BEGIN INSERT INTO to_follow (booking_id) SELECT DISTINCT booking_id FROM cards
    WHERE booking_id IS NOT NULL AND expires_at IS NOT NULL AND left > 0
    ON CONFLICT DO UPDATE SET n = n + 1; END;
CREATE TRIGGER card_cues_followed AFTER UPDATE ON cues WHEN NEW.happens = 'a stamp card expires'
BEGIN INSERT INTO to_follow (booking_id) SELECT DISTINCT booking_id FROM cards
    WHERE booking_id IS NOT NULL AND expires_at IS NOT NULL AND left > 0
    ON CONFLICT DO UPDATE SET n = n + 1; END;

-- What somebody of the house asked to be told by itself, and at what hour of the house's clock.
CREATE TABLE wishes (
    person_id INTEGER NOT NULL REFERENCES people (id),
    what      TEXT NOT NULL,
    -- HH:MM; empty for what is told at once, or not at all.
    at        TEXT NOT NULL DEFAULT '',
    -- Also when there is nothing to tell.
    empty_too INTEGER NOT NULL DEFAULT 0 CHECK (empty_too IN (0, 1)),
    PRIMARY KEY (person_id, what)
) STRICT, WITHOUT ROWID;
CREATE TRIGGER wishes_added_followed AFTER INSERT ON wishes WHEN NEW.what = 'list of tomorrow'
BEGIN INSERT INTO to_follow_dates (date_id) SELECT dh.date_id FROM date_hosts dh JOIN hosts h ON h.id = dh.host_id
    WHERE h.person_id = NEW.person_id ON CONFLICT DO UPDATE SET n = n + 1, done_to = 0; END;
CREATE TRIGGER wishes_removed_followed AFTER DELETE ON wishes WHEN OLD.what = 'list of tomorrow'
BEGIN INSERT INTO to_follow_dates (date_id) SELECT dh.date_id FROM date_hosts dh JOIN hosts h ON h.id = dh.host_id
    WHERE h.person_id = OLD.person_id ON CONFLICT DO UPDATE SET n = n + 1, done_to = 0; END;

-- Files of the house that go with messages.
CREATE TABLE house_files (
    id         INTEGER PRIMARY KEY,
    name       TEXT NOT NULL,
    media_type TEXT NOT NULL,
    bytes      BLOB NOT NULL,
    added_at   INTEGER NOT NULL,
    retired_at INTEGER
) STRICT;

-- What was sold before this version is followed from now on.
INSERT INTO to_follow_dates (date_id) SELECT id FROM dates;
-- Since when somebody belongs to the date they have: confirmed, or moved there. NULL is since the booking was made.
ALTER TABLE bookings ADD COLUMN since INTEGER;
-- Joins online, where an event is both in person and online.
ALTER TABLE ticket_types ADD COLUMN online INTEGER NOT NULL DEFAULT 0 CHECK (online IN (0, 1));

-- Words to chosen people, now or at a time.
CREATE TABLE announcements (
    id          INTEGER PRIMARY KEY,
    event_id    INTEGER NOT NULL REFERENCES events (id),
    template_id INTEGER NOT NULL REFERENCES templates (id),
    -- To whom, in words.
    whom        TEXT NOT NULL,
    made_at     INTEGER NOT NULL,
    who         TEXT NOT NULL,
    stopped_at  INTEGER
) STRICT;
CREATE INDEX outbox_by_announcement ON outbox (announcement_id, state) WHERE announcement_id IS NOT NULL;

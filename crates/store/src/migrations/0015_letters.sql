-- Letters: mails that came in, what went out because of them, what calendars said.

CREATE TABLE letters (
    id          INTEGER PRIMARY KEY,
    -- A digest of who wrote what when: read once, however often it is fetched or handed over.
    seen        TEXT NOT NULL UNIQUE,
    message_id  TEXT NOT NULL,
    kind        TEXT NOT NULL,
    -- When it was read, and when it says that it was written.
    at          INTEGER NOT NULL,
    written_at  INTEGER,
    from_name   TEXT NOT NULL,
    from_email  TEXT NOT NULL COLLATE NOCASE,
    -- The reply address that it was written to.
    to_email    TEXT NOT NULL,
    subject     TEXT NOT NULL,
    words       TEXT NOT NULL,
    -- Why it is what it is: how a machine showed, what a mail server said, what is wrong with it.
    note        TEXT NOT NULL DEFAULT '',
    -- Where it belongs: to one of these, or to nothing that is known.
    booking_id  INTEGER REFERENCES bookings (id) ON DELETE SET NULL,
    event_id    INTEGER REFERENCES events (id) ON DELETE SET NULL,
    person      TEXT COLLATE NOCASE,
    found       TEXT NOT NULL,
    put_away_at INTEGER,
    -- Word for word as it came, packed.
    raw         BLOB NOT NULL,
    CHECK ((booking_id IS NOT NULL) + (event_id IS NOT NULL) + (person IS NOT NULL) <= 1)
) STRICT;
CREATE INDEX letters_by_booking ON letters (booking_id) WHERE booking_id IS NOT NULL;
CREATE INDEX letters_by_event ON letters (event_id) WHERE event_id IS NOT NULL;
CREATE INDEX letters_by_sender ON letters (from_email, at);
CREATE INDEX letters_by_message ON letters (message_id) WHERE message_id <> '';
CREATE INDEX letters_in_tray ON letters (at)
    WHERE booking_id IS NULL AND event_id IS NULL AND person IS NULL AND put_away_at IS NULL;

-- What goes out because of a letter: to whoever stands behind a reply address, or back to its writer.
CREATE TABLE letters_out (
    id         INTEGER PRIMARY KEY,
    -- The letter that it forwards or answers.
    letter_id  INTEGER NOT NULL REFERENCES letters (id),
    forward    INTEGER NOT NULL CHECK (forward IN (0, 1)),
    -- The letter whose files go along.
    files_of   INTEGER REFERENCES letters (id),
    message_id TEXT NOT NULL UNIQUE,
    from_name  TEXT NOT NULL,
    from_email TEXT NOT NULL,
    to_name    TEXT NOT NULL,
    to_email   TEXT NOT NULL COLLATE NOCASE,
    subject    TEXT NOT NULL,
    words      TEXT NOT NULL,
    -- Files that could not go along, in words.
    without    TEXT NOT NULL DEFAULT '',
    who        TEXT NOT NULL,
    made_at    INTEGER NOT NULL,
    sent_at    INTEGER,
    -- The mail server will never take it.
    refused    TEXT
) STRICT;
CREATE INDEX letters_out_by_letter ON letters_out (letter_id);
CREATE INDEX letters_out_due ON letters_out (id) WHERE sent_at IS NULL AND refused IS NULL;

-- Who stands behind a reply address; empty for nobody: the letter is read at the Office.
ALTER TABLE senders ADD COLUMN forwards_to TEXT NOT NULL DEFAULT '';
ALTER TABLE house ADD COLUMN forwards_to TEXT NOT NULL DEFAULT '';

-- How far the house's mailbox was read (RFC 3501 §2.3.1.1).
CREATE TABLE letterbox (
    name     TEXT PRIMARY KEY,
    validity INTEGER NOT NULL,
    uid      INTEGER NOT NULL,
    read_at  INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- What somebody's calendar said of a booking; person is -1 for the booker.
CREATE TABLE calendar_said (
    booking_id INTEGER NOT NULL REFERENCES bookings (id) ON DELETE CASCADE,
    person     INTEGER NOT NULL,
    said       TEXT NOT NULL,
    sequence   INTEGER NOT NULL,
    at         INTEGER NOT NULL,
    word       TEXT NOT NULL,
    PRIMARY KEY (booking_id, person)
) STRICT, WITHOUT ROWID;

-- Whose ticket is whose, by the address it was passed to.
CREATE INDEX attendees_by_email ON attendees (email COLLATE NOCASE) WHERE email <> '';
CREATE INDEX addresses_refused ON addresses (refused_at) WHERE refused_at IS NOT NULL;

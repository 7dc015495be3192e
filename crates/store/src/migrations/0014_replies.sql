-- What those who were invited to an event say: the latest of each address.
CREATE TABLE replies (
    event_id INTEGER NOT NULL REFERENCES events (id) ON DELETE CASCADE,
    email    TEXT NOT NULL COLLATE NOCASE,
    reply    TEXT NOT NULL CHECK (reply IN ('yes', 'maybe', 'no')),
    word     TEXT NOT NULL DEFAULT '',
    at       INTEGER NOT NULL,
    PRIMARY KEY (event_id, email)
) STRICT, WITHOUT ROWID;

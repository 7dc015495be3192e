-- Everybody who is invited to an event, how often they were asked, and by which message. Who may
-- book is a rule of its own: people are also invited to what is open to everybody.
CREATE TABLE invited (
    id          INTEGER PRIMARY KEY,
    event_id    INTEGER NOT NULL REFERENCES events (id) ON DELETE CASCADE,
    email       TEXT NOT NULL COLLATE NOCASE,
    -- On the list of the event, not only on that of a ticket.
    listed      INTEGER NOT NULL CHECK (listed IN (0, 1)),
    added_at    INTEGER NOT NULL,
    asked       INTEGER NOT NULL DEFAULT 0,
    asked_at    INTEGER,
    -- The house brings them the invitation itself.
    elsewhere   INTEGER NOT NULL DEFAULT 0 CHECK (elsewhere IN (0, 1)),
    -- The message that their link is made of.
    message_id  INTEGER REFERENCES outbox (id) ON DELETE SET NULL,
    -- Who has the invitation now; empty while it is theirs.
    handed_to   TEXT NOT NULL DEFAULT '' COLLATE NOCASE,
    handed_from TEXT NOT NULL DEFAULT '' COLLATE NOCASE,
    -- How often it was handed on.
    handed      INTEGER NOT NULL DEFAULT 0,
    UNIQUE (event_id, email)
) STRICT;
CREATE INDEX invited_asked ON invited (event_id, asked, asked_at);
CREATE INDEX invited_of ON invited (email);
CREATE INDEX invited_message ON invited (message_id) WHERE message_id IS NOT NULL;

INSERT OR IGNORE INTO invited (event_id, email, listed, added_at)
SELECT e.id, j.value, 1, e.changed_at FROM events e, json_each(e.who, '$.invited') j;
INSERT OR IGNORE INTO invited (event_id, email, listed, added_at)
SELECT e.id, j.value, 0, e.changed_at
FROM ticket_types t JOIN events e ON e.id = t.event_id, json_each(t.invited) j WHERE t.retired = 0;
UPDATE invited SET asked = o.many, asked_at = o.at, message_id = o.id, elsewhere = o.elsewhere
FROM (SELECT event_id, lower(address) AS address, count(*) AS many, max(coalesce(sent_at, planned_at)) AS at,
        min(id) AS id, min(reason = 'the house sends this one by other means') AS elsewhere
      FROM outbox WHERE happened = 'invitation' AND event_id IS NOT NULL GROUP BY 1, 2) o
WHERE o.event_id = invited.event_id AND o.address = lower(invited.email);
UPDATE events SET who = '"invited"' WHERE json_type(who, '$.invited') = 'array';
UPDATE patterns SET plan = json_set(plan, '$.who', 'invited') WHERE json_type(plan, '$.who.invited') = 'array';

-- Whoever is on the list of a ticket is invited, too.
CREATE TRIGGER invited_by_new_ticket AFTER INSERT ON ticket_types WHEN new.invited <> '[]' BEGIN
    INSERT OR IGNORE INTO invited (event_id, email, listed, added_at)
    SELECT e.id, j.value, 0, e.changed_at FROM events e, json_each(new.invited) j WHERE e.id = new.event_id;
END;
CREATE TRIGGER invited_by_ticket AFTER UPDATE OF invited ON ticket_types WHEN new.invited <> old.invited BEGIN
    INSERT OR IGNORE INTO invited (event_id, email, listed, added_at)
    SELECT e.id, j.value, 0, e.changed_at FROM events e, json_each(new.invited) j WHERE e.id = new.event_id;
END;

-- The seat that a maybe keeps.
ALTER TABLE replies ADD COLUMN kept_id INTEGER REFERENCES bookings (id) ON DELETE SET NULL;

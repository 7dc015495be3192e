-- Who acted is kept as kind and key, with the name as it was then.
ALTER TABLE timeline ADD COLUMN kind TEXT NOT NULL DEFAULT 'clerk'
    CHECK (kind IN ('booker', 'clerk', 'treasurer', 'door volunteer', 'card provider', 'program'));
ALTER TABLE timeline ADD COLUMN person_id INTEGER REFERENCES people (id);

DROP TRIGGER timeline_stays;
UPDATE timeline SET kind = CASE
    WHEN who = 'the booker' THEN 'booker'
    WHEN who = 'Matricle' THEN 'program'
    WHEN who = 'the card provider' THEN 'card provider'
    WHEN who LIKE '% at the door' THEN 'door volunteer'
    WHEN what LIKE 'took %' AND what LIKE '% by %' THEN 'treasurer'
    ELSE 'clerk' END;
-- Where one person of the house has the name, it was them.
UPDATE timeline SET person_id = (
    SELECT min(p.id) FROM people p
    WHERE p.role IS NOT NULL AND p.name = replace(timeline.who, ' at the door', '')
    HAVING count(*) = 1
) WHERE kind IN ('clerk', 'treasurer', 'door volunteer');
CREATE TRIGGER timeline_stays BEFORE UPDATE ON timeline
BEGIN SELECT RAISE(ABORT, 'the timeline is not rewritten'); END;

-- A person belongs to a line by key: the name of a ticket type changes.
ALTER TABLE attendees ADD COLUMN ticket_type_id INTEGER REFERENCES ticket_types (id);
UPDATE attendees SET ticket_type_id = coalesce(
    (SELECT l.ticket_type_id FROM booking_lines l
     WHERE l.booking_id = attendees.booking_id AND l.name = attendees.ticket_name),
    -- One more was added after the type was renamed: its line has the name of before.
    (SELECT l.ticket_type_id FROM booking_lines l JOIN ticket_types t ON t.id = l.ticket_type_id
     WHERE l.booking_id = attendees.booking_id AND t.name = attendees.ticket_name),
    -- Renamed once more since: the line whose people are not all found.
    (SELECT l.ticket_type_id FROM booking_lines l JOIN ticket_types t ON t.id = l.ticket_type_id
     WHERE l.booking_id = attendees.booking_id
     ORDER BY (l.quantity + l.cancelled) * t.admits - (SELECT count(*) FROM attendees o
        WHERE o.booking_id = l.booking_id AND o.ticket_name = l.name AND o.position = o.person_no) DESC, l.position
     LIMIT 1)
);

-- What a device says of the time of a scan, beside the server's.
ALTER TABLE scans ADD COLUMN device_at INTEGER;

-- Calendars follow: a count for each booking, and what feeds show of an event.

-- How often what a booking's calendar entry says has changed besides its dates, so that SEQUENCE
-- (RFC 5545 §3.8.7.4), which is this and the sequence of its dates together, never falls.
ALTER TABLE bookings ADD COLUMN calendar_steps INTEGER NOT NULL DEFAULT 0;
-- Whoever booked wants nothing for their calendar with their mails.
ALTER TABLE bookings ADD COLUMN calendar_off INTEGER NOT NULL DEFAULT 0 CHECK (calendar_off IN (0, 1));
-- What was sent so far counted a cancellation as one step.
UPDATE bookings SET calendar_steps = 1 WHERE state = 'cancelled';

CREATE TRIGGER bookings_move_in_calendars AFTER UPDATE OF date_id ON bookings WHEN OLD.date_id <> NEW.date_id
BEGIN
    UPDATE bookings SET calendar_steps = calendar_steps + 1
        + coalesce((SELECT sequence FROM dates WHERE id = OLD.date_id), 0)
        - coalesce((SELECT sequence FROM dates WHERE id = NEW.date_id), 0) WHERE id = NEW.id;
END;
CREATE TRIGGER bookings_go_and_come_in_calendars AFTER UPDATE OF state ON bookings
    WHEN (OLD.state = 'cancelled') <> (NEW.state = 'cancelled')
BEGIN
    UPDATE bookings SET calendar_steps = calendar_steps + 1 WHERE id = NEW.id;
END;
CREATE TRIGGER tickets_pass_in_calendars AFTER UPDATE OF email ON attendees WHEN OLD.email <> NEW.email
BEGIN
    UPDATE bookings SET calendar_steps = calendar_steps + 1 WHERE id = NEW.booking_id;
END;

-- When what calendars show of an event last changed; NULL for not since it was made.
ALTER TABLE events ADD COLUMN shown_at INTEGER;
UPDATE events SET shown_at = changed_at;
CREATE TRIGGER events_show_in_calendars AFTER UPDATE OF title, lead, slug, format, changed_at ON events
    WHEN OLD.title <> NEW.title OR OLD.lead <> NEW.lead OR OLD.slug <> NEW.slug OR OLD.format <> NEW.format
BEGIN
    UPDATE events SET shown_at = NEW.changed_at WHERE id = NEW.id;
END;

//! What must hold of single rows and of rows beside each other, found by planting faults.

/// See [`super::RULES`].
pub(super) const MORE: &[(&str, &str)] = &[
    (
        "seats are held until a time, and not past the end of their date",
        "SELECT 'booking ' || b.reference FROM bookings b JOIN dates d ON d.id = b.date_id
         WHERE b.state = {Held} AND (b.deadline IS NULL OR b.deadline > d.ends_at + 86400000000)
            AND b.deadline > b.made_at + 86400000000",
    ),
    (
        "only seats that are held or to be paid have a time that runs out",
        "SELECT 'booking ' || b.reference FROM bookings b
         WHERE (b.state IN ({Held}, {AwaitingPayment})) <> (b.deadline IS NOT NULL)",
    ),
    (
        "a booking that keeps seats draws what its tickets draw from",
        "SELECT 'booking ' || b.reference FROM bookings b
         WHERE b.state IN {stands} AND b.test = 0
            AND NOT EXISTS (SELECT 1 FROM booking_draws d WHERE d.booking_id = b.id)
            AND EXISTS (SELECT 1 FROM booking_lines l JOIN draws w ON w.ticket_type_id = l.ticket_type_id
                JOIN pools p ON p.kind_id = w.kind_id AND p.date_id = b.date_id
                WHERE l.booking_id = b.id AND l.quantity > 0 AND w.seats > 0)",
    ),
    (
        "a person belongs to a date of their booking's event",
        "SELECT 'attendee ' || a.id || ' of ' || b.reference FROM attendees a JOIN bookings b ON b.id = a.booking_id
         JOIN dates d ON d.id = a.date_id JOIN dates own ON own.id = b.date_id WHERE d.event_id <> own.event_id",
    ),
    (
        "who is at one date only is at the date of their booking",
        "SELECT 'attendee ' || a.id || ' of ' || b.reference FROM attendees a JOIN bookings b ON b.id = a.booking_id
         JOIN dates d ON d.id = b.date_id JOIN events e ON e.id = d.event_id
         WHERE e.course = 0 AND a.date_id <> b.date_id",
    ),
    (
        "what is charged is what stands and what was kept",
        "SELECT 'booking ' || b.reference || ': ' || l.name FROM booking_lines l JOIN bookings b ON b.id = l.booking_id
         WHERE b.state IN {asked_for} AND l.charge_minor <> l.standing_minor + l.kept_minor",
    ),
    (
        "whoever is confirmed has paid, or somebody of the house let them owe",
        "SELECT 'booking ' || b.reference || ': ' || (b.total_minor - b.paid_minor) FROM bookings b
         WHERE b.state = {Confirmed} AND b.test = 0 AND b.paid_minor < b.total_minor
            AND NOT EXISTS (SELECT 1 FROM timeline h WHERE h.booking_id = b.id
                AND h.kind NOT IN ('booker', 'program', 'card provider'))
            AND NOT EXISTS (SELECT 1 FROM payments p WHERE p.booking_id = b.id AND (p.dispute <> '' OR p.state = 'paid'))",
    ),
    (
        "what has gone has its minute, and what has not has none",
        "SELECT 'message ' || o.id || ': ' || o.state FROM outbox o
         WHERE (o.state = 'sent') <> (o.sent_at IS NOT NULL) AND o.way <> 'telephone'",
    ),
    (
        "what is planned has a minute at which it is tried, and nothing else has",
        "SELECT 'message ' || o.id || ': ' || o.state FROM outbox o
         WHERE (o.state = 'planned') <> (o.next_try_at IS NOT NULL) AND o.way <> 'telephone'",
    ),
    (
        "nothing is both sent and planned",
        "SELECT 'message ' || p.id FROM outbox p JOIN outbox s ON s.cue_id = p.cue_id AND s.reader = p.reader
            AND s.date_id = p.date_id AND s.booking_id IS p.booking_id
         WHERE p.state = 'planned' AND s.state = 'sent' AND p.happened NOT IN ('moved', 'called off')",
    ),
    (
        "a calendar's version never falls below what a calendar has answered",
        "SELECT 'booking ' || b.reference FROM calendar_said s JOIN bookings b ON b.id = s.booking_id
         WHERE s.sequence > b.calendar_steps + (SELECT coalesce(sum(d.sequence), 0) FROM dates d
            WHERE d.id = b.date_id OR d.id IN (SELECT a.date_id FROM attendees a WHERE a.booking_id = b.id))",
    ),
    (
        "the income of a booking is its event's",
        "SELECT 'entry ' || e.id || ' of ' || b.reference FROM entries e JOIN entry_lines l ON l.entry_id = e.id
         JOIN bookings b ON b.id = e.booking_id JOIN dates d ON d.id = b.date_id
         WHERE l.account = 'income' AND l.about <> d.event_id",
    ),
    (
        "nothing is entered before its booking was made",
        "SELECT 'entry ' || e.id || ' of ' || b.reference FROM entries e JOIN bookings b ON b.id = e.booking_id
         WHERE e.at < b.made_at",
    ),
    (
        "money that came has its minute",
        "SELECT 'payment ' || p.id FROM payments p
         WHERE (p.state = 'open') = (p.settled_at IS NOT NULL)",
    ),
    (
        "a promo code is used no oftener than it may be",
        "SELECT 'promo code ' || p.code || ': ' || count(*) || ' of ' || p.most FROM promos p
         JOIN booking_promos bp ON bp.promo_id = p.id JOIN bookings b ON b.id = bp.booking_id
         WHERE p.most IS NOT NULL AND b.test = 0 AND b.state IN {keeps_seats}
         GROUP BY p.id HAVING count(*) > p.most",
    ),
    (
        "a stamp card begins with a move",
        "SELECT 'card ' || c.code FROM cards c WHERE NOT EXISTS (SELECT 1 FROM card_moves m WHERE m.card_id = c.id)",
    ),
    (
        "whoever replied is invited",
        "SELECT 'reply of ' || r.email || ' to event ' || r.event_id FROM replies r WHERE NOT EXISTS (
            SELECT 1 FROM invited i WHERE i.event_id = r.event_id AND i.email = r.email)",
    ),
    (
        "an event is found by its words",
        "SELECT 'event ' || e.id FROM events e WHERE NOT EXISTS (SELECT 1 FROM event_text t WHERE t.rowid = e.id)",
    ),
    (
        "how often plans changed is counted",
        "SELECT 'plan_version: ' || count(*) || ' rows' FROM plan_version HAVING count(*) <> 1",
    ),
];

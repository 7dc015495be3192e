-- The booker's telephone number, for whoever has no address.
ALTER TABLE bookings ADD COLUMN phone TEXT NOT NULL DEFAULT '';

-- Bookers without an address who have to be told by telephone.
CREATE TABLE rings (
    id         INTEGER PRIMARY KEY,
    booking_id INTEGER NOT NULL REFERENCES bookings (id),
    kind       TEXT NOT NULL CHECK (kind IN ('moved', 'called off')),
    note       TEXT NOT NULL,
    made_at    INTEGER NOT NULL,
    rung_at    INTEGER,
    rung_by    TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX rings_by_booking ON rings (booking_id);
CREATE INDEX rings_open ON rings (id) WHERE rung_at IS NULL;

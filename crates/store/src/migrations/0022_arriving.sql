-- What arrives: marked before it is read, and what was worked out of a letter kept with it.

-- A mail that is being read, by the digest of its bytes: written down before, gone once it is
-- kept. What still stands here at the start was being read when the program ended.
CREATE TABLE being_read (
    digest TEXT PRIMARY KEY,
    -- It was read by itself, and no other beside it.
    alone  INTEGER NOT NULL CHECK (alone IN (0, 1)),
    at     INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- The words that are new in a letter, and name, type and size of each file that it brings (a JSON
-- list of three each). Letters of before have neither: these are worked out when they are shown.
ALTER TABLE letters ADD COLUMN own TEXT;
ALTER TABLE letters ADD COLUMN files TEXT CHECK (files IS NULL OR json_valid(files));
CREATE INDEX letters_unreadable ON letters (at) WHERE kind = 'unreadable' AND put_away_at IS NULL;

-- The box that a message goes to because of a stranger's act; empty for what the house itself
-- sends off. All such messages to one box are counted together, whoever made them go.
ALTER TABLE outbox ADD COLUMN box TEXT NOT NULL DEFAULT '';
CREATE INDEX outbox_by_box ON outbox (box, sent_at) WHERE box <> '';

CREATE INDEX letters_out_forwarded ON letters_out (to_email, made_at) WHERE forward = 1;

-- What the tickets of a line that stand come to; what was kept of those that were cancelled one by
-- one; and what these came to. While money is charged, a line is charged the first two together.
ALTER TABLE booking_lines ADD COLUMN standing_minor INTEGER NOT NULL DEFAULT 0 CHECK (standing_minor >= 0);
ALTER TABLE booking_lines ADD COLUMN kept_minor INTEGER NOT NULL DEFAULT 0 CHECK (kept_minor >= 0);
ALTER TABLE booking_lines ADD COLUMN gone_minor INTEGER NOT NULL DEFAULT 0 CHECK (gone_minor >= kept_minor);
UPDATE booking_lines SET standing_minor = max(0, quantity * unit_minor - discount_minor
    + tax_added * (((quantity * unit_minor - discount_minor) * tax_basis * 2 + 10000) / 20000));
-- Whether a price was set by hand, or tickets were added at another, is not written down: where
-- nothing was cancelled, what is charged is what stands.
UPDATE booking_lines SET standing_minor = charge_minor WHERE cancelled = 0
    AND booking_id IN (SELECT id FROM bookings WHERE state NOT IN ('cancelled'));
UPDATE booking_lines SET standing_minor = min(standing_minor, charge_minor),
        kept_minor = charge_minor - min(standing_minor, charge_minor),
        gone_minor = max(cancelled * unit_minor, charge_minor - min(standing_minor, charge_minor))
    WHERE cancelled > 0 AND booking_id IN (SELECT id FROM bookings WHERE state NOT IN ('cancelled'));

-- How many scans a device had announced when it was sent away, and has not handed in since: more
-- than these are not believed.
ALTER TABLE devices ADD COLUMN announced INTEGER NOT NULL DEFAULT 0 CHECK (announced >= 0);
UPDATE devices SET announced = min(to_send, 1000) WHERE sent_away_at IS NOT NULL;

-- How often the key in a secret address was replaced; the address itself is made, never stored.
CREATE TABLE replaced_keys (
    what  TEXT NOT NULL,
    key   TEXT NOT NULL,
    times INTEGER NOT NULL CHECK (times > 0),
    PRIMARY KEY (what, key)
) STRICT, WITHOUT ROWID;

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

-- House ----------------------------------------------------------------------------------------
-- Who sells, as it stands on receipts and invoices: name and address, and a tax number.
ALTER TABLE house ADD COLUMN seller TEXT NOT NULL DEFAULT '';
ALTER TABLE house ADD COLUMN tax_number TEXT NOT NULL DEFAULT '';
-- The account that transfers go to; no IBAN, no transfers.
ALTER TABLE house ADD COLUMN payee TEXT NOT NULL DEFAULT '';
ALTER TABLE house ADD COLUMN iban TEXT NOT NULL DEFAULT '';
ALTER TABLE house ADD COLUMN bic TEXT NOT NULL DEFAULT '';
-- How long seats are kept for a transfer.
ALTER TABLE house ADD COLUMN transfer_days INTEGER NOT NULL DEFAULT 10 CHECK (transfer_days BETWEEN 1 AND 90);
-- What may happen to an event's bookings once they are made, as JSON.
ALTER TABLE events ADD COLUMN rules TEXT NOT NULL DEFAULT '{}';
-- Events whose bookings all waited for a yes now say so in their rules, and so do patterns.
UPDATE events SET rules = '{"confirm":{"free":"after_yes","paid":"after_yes"}}' WHERE approval = 1;
ALTER TABLE events DROP COLUMN approval;
UPDATE patterns SET plan = json_set(plan, '$.rules.confirm', json('{"free":"after_yes","paid":"after_yes"}'))
    WHERE json_extract(plan, '$.approval') = 1;
-- Whether bookings with this ticket wait for the organiser's yes; NULL as the event says.
ALTER TABLE ticket_types ADD COLUMN after_yes INTEGER CHECK (after_yes IN (0, 1));
-- The tax comes on top of the price instead of being contained in it.
ALTER TABLE tax_rates ADD COLUMN added INTEGER NOT NULL DEFAULT 0 CHECK (added IN (0, 1));

-- Bookings -------------------------------------------------------------------------------------
-- A line keeps what it is charged, which a part that is cancelled makes smaller.
CREATE TABLE booking_lines_3 (
    booking_id     INTEGER NOT NULL REFERENCES bookings (id),
    ticket_type_id INTEGER NOT NULL REFERENCES ticket_types (id),
    position       INTEGER NOT NULL,
    name           TEXT NOT NULL,
    -- Tickets that stand, and tickets that were cancelled one by one.
    quantity       INTEGER NOT NULL CHECK (quantity >= 0),
    cancelled      INTEGER NOT NULL DEFAULT 0 CHECK (cancelled >= 0),
    base_minor     INTEGER NOT NULL,
    unit_minor     INTEGER NOT NULL,
    discount_minor INTEGER NOT NULL DEFAULT 0 CHECK (discount_minor >= 0),
    -- What the line comes to, and the tax contained in that.
    charge_minor   INTEGER NOT NULL CHECK (charge_minor >= 0),
    tax_minor      INTEGER NOT NULL DEFAULT 0 CHECK (tax_minor BETWEEN 0 AND charge_minor),
    -- Hundredths of a percent.
    tax_basis      INTEGER NOT NULL DEFAULT 0,
    -- The tax comes on top of `unit_minor`.
    tax_added      INTEGER NOT NULL DEFAULT 0 CHECK (tax_added IN (0, 1)),
    PRIMARY KEY (booking_id, ticket_type_id)
) STRICT, WITHOUT ROWID;
INSERT INTO booking_lines_3 (booking_id, ticket_type_id, position, name, quantity, base_minor, unit_minor,
        charge_minor, tax_minor, tax_basis)
    SELECT l.booking_id, l.ticket_type_id, l.position, l.name, l.quantity, l.base_minor, l.unit_minor,
        l.quantity * l.unit_minor,
        (l.quantity * l.unit_minor * coalesce(x.basis, 0) * 2 + 10000 + coalesce(x.basis, 0)) / (2 * (10000 + coalesce(x.basis, 0))),
        coalesce(x.basis, 0)
    FROM booking_lines l JOIN ticket_types t ON t.id = l.ticket_type_id LEFT JOIN tax_rates x ON x.id = t.tax_rate_id;
DROP TABLE booking_lines;
ALTER TABLE booking_lines_3 RENAME TO booking_lines;

CREATE TABLE booking_draws_3 (
    booking_id INTEGER NOT NULL REFERENCES bookings (id),
    pool_id    INTEGER NOT NULL REFERENCES pools (id),
    seats      INTEGER NOT NULL CHECK (seats >= 0),
    PRIMARY KEY (booking_id, pool_id)
) STRICT, WITHOUT ROWID;
INSERT INTO booking_draws_3 SELECT booking_id, pool_id, seats FROM booking_draws;
DROP TABLE booking_draws;
ALTER TABLE booking_draws_3 RENAME TO booking_draws;
CREATE INDEX booking_draws_by_pool ON booking_draws (pool_id);

-- Which ticket of the booking lets this person in: a family ticket lets four in.
ALTER TABLE attendees ADD COLUMN ticket_no INTEGER NOT NULL DEFAULT 0;
UPDATE attendees SET ticket_no = coalesce((
    SELECT (SELECT coalesce(sum(e.quantity), 0) FROM booking_lines e
            WHERE e.booking_id = l.booking_id AND e.position < l.position)
        + (SELECT count(*) FROM attendees o WHERE o.booking_id = attendees.booking_id AND o.date_id = attendees.date_id
            AND o.ticket_name = attendees.ticket_name AND o.person_no < attendees.person_no) / t.admits
    FROM booking_lines l JOIN ticket_types t ON t.id = l.ticket_type_id
    WHERE l.booking_id = attendees.booking_id AND l.name = attendees.ticket_name), person_no);
-- Their ticket was cancelled, and the rest of the booking stands.
ALTER TABLE attendees ADD COLUMN cancelled_at INTEGER;

-- The box that the booker's address means: without case, dots and what stands after a plus.
ALTER TABLE bookings ADD COLUMN mailbox TEXT NOT NULL DEFAULT '';
UPDATE bookings SET mailbox = lower(email) WHERE email <> '';
CREATE INDEX bookings_by_mailbox ON bookings (mailbox) WHERE mailbox <> '';

-- Folded words of bookings whose form is complete: names, addresses, references.
CREATE VIRTUAL TABLE booking_words USING fts5 (words, content = '', contentless_delete = 1, detail = 'none',
    tokenize = 'unicode61', prefix = '3');
INSERT INTO booking_words (rowid, words) SELECT id, search FROM bookings WHERE name <> '';

-- Codes of tickets that were passed on: the door knows them, and lets nobody in.
CREATE TABLE dead_codes (
    code        TEXT PRIMARY KEY,
    attendee_id INTEGER NOT NULL REFERENCES attendees (id),
    died_at     INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- What a booker did last with their own booking: the line of the timeline that tells it, and
-- how things were before, as JSON.
CREATE TABLE deeds (
    booking_id INTEGER PRIMARY KEY REFERENCES bookings (id),
    line_id    INTEGER NOT NULL REFERENCES timeline (id),
    -- What went back because of it, in minor units.
    back       INTEGER NOT NULL,
    deed       TEXT NOT NULL
) STRICT;

-- Notes that no booker ever sees.
CREATE TABLE booking_notes (
    id         INTEGER PRIMARY KEY,
    booking_id INTEGER NOT NULL REFERENCES bookings (id),
    at         INTEGER NOT NULL,
    who        TEXT NOT NULL,
    text       TEXT NOT NULL
) STRICT;
CREATE INDEX booking_notes_by_booking ON booking_notes (booking_id);

-- Money ----------------------------------------------------------------------------------------
ALTER TABLE payments ADD COLUMN method TEXT NOT NULL DEFAULT 'card';
-- Who took it, when somebody did; and what they noted.
ALTER TABLE payments ADD COLUMN who TEXT NOT NULL DEFAULT '';
ALTER TABLE payments ADD COLUMN note TEXT NOT NULL DEFAULT '';
-- What the provider kept of it.
ALTER TABLE payments ADD COLUMN fee_minor INTEGER NOT NULL DEFAULT 0;
-- 'open' while the payer's bank disputes it, 'lost' when it took the money back.
ALTER TABLE payments ADD COLUMN dispute TEXT NOT NULL DEFAULT '' CHECK (dispute IN ('', 'open', 'won', 'lost'));

-- Money on its way back.
CREATE TABLE refunds (
    -- A UUID, given to the provider as the idempotency key.
    id           TEXT PRIMARY KEY,
    payment_id   TEXT NOT NULL REFERENCES payments (id),
    booking_id   INTEGER NOT NULL REFERENCES bookings (id),
    amount_minor INTEGER NOT NULL CHECK (amount_minor > 0),
    reason       TEXT NOT NULL,
    -- 'open' waits for the provider, or for somebody who gives it back by hand.
    state        TEXT NOT NULL CHECK (state IN ('open', 'done')),
    by_hand      INTEGER NOT NULL CHECK (by_hand IN (0, 1)),
    made_at      INTEGER NOT NULL,
    done_at      INTEGER,
    who          TEXT NOT NULL,
    next_try_at  INTEGER,
    tries        INTEGER NOT NULL DEFAULT 0,
    last_error   TEXT,
    CHECK ((state = 'done') = (done_at IS NOT NULL)),
    CHECK ((state = 'open' AND by_hand = 0) = (next_try_at IS NOT NULL))
) STRICT, WITHOUT ROWID;
CREATE INDEX refunds_by_booking ON refunds (booking_id);
CREATE INDEX refunds_by_payment ON refunds (payment_id);
CREATE INDEX refunds_due ON refunds (next_try_at) WHERE next_try_at IS NOT NULL;
CREATE INDEX refunds_open ON refunds (made_at) WHERE state = 'open';

-- Double entry: balanced when written (core makes no other), never changed.
CREATE TABLE entries (
    id         INTEGER PRIMARY KEY,
    at         INTEGER NOT NULL,
    who        TEXT NOT NULL,
    what       TEXT NOT NULL,
    booking_id INTEGER REFERENCES bookings (id)
) STRICT;
CREATE INDEX entries_by_booking ON entries (booking_id) WHERE booking_id IS NOT NULL;
CREATE INDEX entries_by_time ON entries (at);
CREATE TABLE entry_lines (
    entry_id INTEGER NOT NULL REFERENCES entries (id),
    position INTEGER NOT NULL,
    account  TEXT NOT NULL,
    about    INTEGER NOT NULL,
    -- A debit is positive.
    minor    INTEGER NOT NULL CHECK (minor <> 0),
    PRIMARY KEY (entry_id, position)
) STRICT, WITHOUT ROWID;
CREATE INDEX entry_lines_by_account ON entry_lines (account, about, minor);
CREATE TRIGGER entries_stay BEFORE UPDATE ON entries BEGIN SELECT RAISE(ABORT, 'the ledger is not rewritten'); END;
CREATE TRIGGER entries_are_kept BEFORE DELETE ON entries BEGIN SELECT RAISE(ABORT, 'the ledger is not shortened'); END;
CREATE TRIGGER entry_lines_stay BEFORE UPDATE ON entry_lines BEGIN SELECT RAISE(ABORT, 'the ledger is not rewritten'); END;
CREATE TRIGGER entry_lines_are_kept BEFORE DELETE ON entry_lines BEGIN SELECT RAISE(ABORT, 'the ledger is not shortened'); END;

-- Receipts, invoices, credit notes: numbered without gaps, kept as issued.
CREATE TABLE documents (
    id          INTEGER PRIMARY KEY,
    kind        TEXT NOT NULL CHECK (kind IN ('receipt', 'invoice', 'credit note')),
    year        INTEGER NOT NULL,
    number      INTEGER NOT NULL CHECK (number >= 1),
    booking_id  INTEGER NOT NULL REFERENCES bookings (id),
    issued_at   INTEGER NOT NULL,
    total_minor INTEGER NOT NULL,
    -- All that is printed on it, as JSON.
    body        TEXT NOT NULL,
    UNIQUE (kind, year, number)
) STRICT;
CREATE INDEX documents_by_booking ON documents (booking_id);
CREATE TRIGGER documents_stay BEFORE UPDATE ON documents BEGIN SELECT RAISE(ABORT, 'a document is not rewritten'); END;
CREATE TRIGGER documents_are_kept BEFORE DELETE ON documents BEGIN SELECT RAISE(ABORT, 'a document is kept'); END;

-- What each booking has been charged, change by change: the income lines of its entries cut
-- by tax rate, for documents and sums. Only ever added to.
CREATE TABLE charges (
    id         INTEGER PRIMARY KEY,
    booking_id INTEGER NOT NULL REFERENCES bookings (id),
    at         INTEGER NOT NULL,
    -- Hundredths of a percent.
    rate       INTEGER NOT NULL,
    gross      INTEGER NOT NULL,
    tax        INTEGER NOT NULL
) STRICT;
CREATE INDEX charges_by_booking ON charges (booking_id);
CREATE TRIGGER charges_stay BEFORE UPDATE ON charges BEGIN SELECT RAISE(ABORT, 'charges are not rewritten'); END;
CREATE TRIGGER charges_are_kept BEFORE DELETE ON charges BEGIN SELECT RAISE(ABORT, 'charges are kept'); END;

-- Books opened for what was booked before there was a ledger.
INSERT INTO charges (booking_id, at, rate, gross, tax)
    SELECT b.id, b.made_at, l.tax_basis, sum(l.charge_minor), sum(l.tax_minor)
    FROM bookings b JOIN booking_lines l ON l.booking_id = b.id
    WHERE b.test = 0 AND b.state IN ('awaiting payment', 'confirmed') GROUP BY b.id, l.tax_basis
    HAVING sum(l.charge_minor) <> 0;
UPDATE booking_lines SET charge_minor = 0, tax_minor = 0
    WHERE booking_id IN (SELECT id FROM bookings WHERE state = 'cancelled');
UPDATE bookings SET total_minor = 0 WHERE state = 'cancelled';
INSERT INTO entries (id, at, who, what, booking_id)
    SELECT b.id, b.made_at, 'Matricle', 'opened the books', b.id FROM bookings b
    WHERE b.test = 0 AND EXISTS (SELECT 1 FROM charges c WHERE c.booking_id = b.id);
INSERT INTO entry_lines (entry_id, position, account, about, minor)
    SELECT booking_id, 0, 'receivables', booking_id, sum(gross) FROM charges GROUP BY booking_id
    UNION ALL SELECT c.booking_id, 1, 'income', d.event_id, sum(c.tax) - sum(c.gross) FROM charges c
        JOIN bookings b ON b.id = c.booking_id JOIN dates d ON d.id = b.date_id GROUP BY c.booking_id
        HAVING sum(c.tax) <> sum(c.gross)
    UNION ALL SELECT booking_id, 2 + rate, 'tax', rate, -tax FROM charges WHERE tax <> 0;
-- Money that came: into the provider's account, or owed back where it was not wanted.
INSERT INTO entries (at, who, what, booking_id)
    SELECT p.settled_at, 'the card provider', 'payment ' || p.id, p.booking_id FROM payments p
    JOIN bookings b ON b.id = p.booking_id WHERE b.test = 0 AND p.state IN ('paid', 'surplus');
INSERT INTO entry_lines (entry_id, position, account, about, minor)
    SELECT e.id, 0, 'card provider', 0, p.amount_minor FROM entries e JOIN payments p ON e.what = 'payment ' || p.id
    UNION ALL SELECT e.id, 1, CASE WHEN p.state = 'surplus' OR b.state = 'cancelled' THEN 'refunds owed' ELSE 'receivables' END,
        CASE WHEN p.state = 'surplus' OR b.state = 'cancelled' THEN 0 ELSE b.id END, -p.amount_minor
        FROM entries e JOIN payments p ON e.what = 'payment ' || p.id JOIN bookings b ON b.id = p.booking_id;
INSERT INTO refunds (id, payment_id, booking_id, amount_minor, reason, state, by_hand, made_at, who, next_try_at)
    SELECT lower(hex(randomblob(4)) || '-' || hex(randomblob(2)) || '-4' || substr(hex(randomblob(2)), 2) || '-a'
            || substr(hex(randomblob(2)), 2) || '-' || hex(randomblob(6))),
        p.id, p.booking_id, p.amount_minor, 'the booking was cancelled', 'open', 0, p.settled_at, 'Matricle', p.settled_at
    FROM payments p JOIN bookings b ON b.id = p.booking_id
    WHERE p.state = 'surplus' OR (p.state = 'paid' AND b.state = 'cancelled');
UPDATE bookings SET paid_minor = 0 WHERE state = 'cancelled';

-- The waiting list -------------------------------------------------------------------------------
CREATE TABLE waiting (
    id          INTEGER PRIMARY KEY,
    date_id     INTEGER NOT NULL REFERENCES dates (id),
    name        TEXT NOT NULL,
    email       TEXT NOT NULL,
    -- The tickets wanted, as JSON: [[ticket type, how many], …].
    wanted      TEXT NOT NULL,
    stands      TEXT NOT NULL CHECK (stands IN ('waiting', 'offered', 'taken', 'passed', 'left')),
    joined_at   INTEGER NOT NULL,
    -- The booking that holds the seats on offer to them.
    booking_id  INTEGER REFERENCES bookings (id),
    -- How often somebody behind them was served because their party did not fit.
    passed_over INTEGER NOT NULL DEFAULT 0,
    -- When they were last told that seats are free, where everybody is told.
    told_at     INTEGER,
    CHECK ((stands = 'offered') <= (booking_id IS NOT NULL))
) STRICT;
CREATE INDEX waiting_by_date ON waiting (date_id, id) WHERE stands = 'waiting';
CREATE INDEX waiting_by_booking ON waiting (booking_id) WHERE booking_id IS NOT NULL;
CREATE INDEX waiting_all ON waiting (date_id, stands);

-- Promo codes ------------------------------------------------------------------------------------
CREATE TABLE promos (
    id          INTEGER PRIMARY KEY,
    code        TEXT NOT NULL,
    -- What is compared: no case, no accents, no blanks.
    folded      TEXT NOT NULL UNIQUE,
    -- The event it is for; NULL for all.
    event_id    INTEGER REFERENCES events (id),
    percent     INTEGER CHECK (percent BETWEEN 1 AND 100),
    minor       INTEGER CHECK (minor > 0),
    -- Ticket types and dates it is for, as JSON; empty for all.
    tickets     TEXT NOT NULL DEFAULT '[]',
    dates       TEXT NOT NULL DEFAULT '[]',
    address     TEXT NOT NULL DEFAULT '',
    most        INTEGER CHECK (most >= 1),
    once        INTEGER NOT NULL DEFAULT 0 CHECK (once IN (0, 1)),
    from_at     INTEGER,
    until_at    INTEGER,
    least_minor INTEGER CHECK (least_minor >= 0),
    most_minor  INTEGER CHECK (most_minor >= 0),
    together    INTEGER NOT NULL DEFAULT 0 CHECK (together IN (0, 1)),
    stopped_at  INTEGER,
    made_at     INTEGER NOT NULL,
    CHECK ((percent IS NULL) <> (minor IS NULL))
) STRICT;
CREATE TABLE booking_promos (
    booking_id INTEGER NOT NULL REFERENCES bookings (id),
    promo_id   INTEGER NOT NULL REFERENCES promos (id),
    position   INTEGER NOT NULL,
    PRIMARY KEY (booking_id, promo_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX booking_promos_by_promo ON booking_promos (promo_id);

-- Payouts of the card provider to the house's bank, each booked once.
CREATE TABLE payouts (
    id         TEXT PRIMARY KEY,
    amount     INTEGER NOT NULL,
    fees       INTEGER NOT NULL,
    booked_at  INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
-- When something was last asked of the outside.
CREATE TABLE asked (
    what TEXT PRIMARY KEY,
    at   INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- What hosts get of an event, and what they were paid.
CREATE TABLE host_shares (
    event_id INTEGER NOT NULL REFERENCES events (id),
    host_id  INTEGER NOT NULL REFERENCES hosts (id),
    kind     TEXT NOT NULL CHECK (kind IN ('percent', 'per head', 'fixed', 'after costs')),
    -- Percent, or minor units a head or in all.
    amount   INTEGER NOT NULL CHECK (amount >= 0),
    -- For 'after costs': what is taken off before the percentage.
    costs    INTEGER NOT NULL DEFAULT 0 CHECK (costs >= 0),
    PRIMARY KEY (event_id, host_id)
) STRICT, WITHOUT ROWID;

-- Lists somebody comes back to: what the address of a list says, under a name.
CREATE TABLE saved_views (
    id        INTEGER PRIMARY KEY,
    person_id INTEGER NOT NULL REFERENCES people (id),
    name      TEXT NOT NULL,
    query     TEXT NOT NULL,
    UNIQUE (person_id, name)
) STRICT;

-- Today asks for bookings by state; the rest of a large file is in other states.
CREATE INDEX bookings_by_state ON bookings (state, made_at);

-- Stamp cards ------------------------------------------------------------------------------------
CREATE TABLE card_kinds (
    id          INTEGER PRIMARY KEY,
    name        TEXT NOT NULL UNIQUE COLLATE NOCASE,
    stamps      INTEGER NOT NULL CHECK (stamps BETWEEN 1 AND 500),
    price_minor INTEGER NOT NULL CHECK (price_minor >= 0),
    -- Days that a card is good for; NULL for ever.
    life_days   INTEGER CHECK (life_days >= 1),
    retired_at  INTEGER
) STRICT;
-- Stamps that one of these tickets costs; NULL when stamps are not taken for it.
ALTER TABLE ticket_types ADD COLUMN stamps INTEGER CHECK (stamps >= 1);
-- What is sold is a card: it lets nobody in and takes no seats.
ALTER TABLE ticket_types ADD COLUMN card_kind_id INTEGER REFERENCES card_kinds (id);
CREATE TABLE cards (
    id         INTEGER PRIMARY KEY,
    code       TEXT NOT NULL UNIQUE,
    kind_id    INTEGER NOT NULL REFERENCES card_kinds (id),
    name       TEXT NOT NULL,
    email      TEXT NOT NULL,
    -- Stamps that are left, and what they are worth: a debt of the house.
    left       INTEGER NOT NULL CHECK (left >= 0),
    value      INTEGER NOT NULL CHECK (value >= 0),
    made_at    INTEGER NOT NULL,
    expires_at INTEGER,
    -- The booking and the ticket it was bought with; of neither when it was sold or given by hand.
    booking_id INTEGER REFERENCES bookings (id),
    ticket_type_id INTEGER REFERENCES ticket_types (id),
    CHECK ((booking_id IS NULL) = (ticket_type_id IS NULL))
) STRICT;
CREATE INDEX cards_by_booking ON cards (booking_id) WHERE booking_id IS NOT NULL;
CREATE INDEX cards_by_email ON cards (email);
CREATE INDEX cards_to_expire ON cards (expires_at) WHERE expires_at IS NOT NULL AND left > 0;
-- What happened with a card. Only ever added to.
CREATE TABLE card_moves (
    id         INTEGER PRIMARY KEY,
    card_id    INTEGER NOT NULL REFERENCES cards (id),
    at         INTEGER NOT NULL,
    who        TEXT NOT NULL,
    what       TEXT NOT NULL,
    stamps     INTEGER NOT NULL,
    value      INTEGER NOT NULL,
    payment_id TEXT REFERENCES payments (id)
) STRICT;
CREATE INDEX card_moves_by_card ON card_moves (card_id);
CREATE INDEX card_moves_by_payment ON card_moves (payment_id) WHERE payment_id IS NOT NULL;
CREATE TRIGGER card_moves_stay BEFORE UPDATE ON card_moves BEGIN SELECT RAISE(ABORT, 'what happened with a card is not rewritten'); END;
CREATE TRIGGER card_moves_are_kept BEFORE DELETE ON card_moves BEGIN SELECT RAISE(ABORT, 'what happened with a card is kept'); END;

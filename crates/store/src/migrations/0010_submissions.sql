-- Events that members submit, and deciding on them.

-- Nobody books: people just come. What it costs then, and whom to ask, in words.
ALTER TABLE events ADD COLUMN drop_in INTEGER NOT NULL DEFAULT 0 CHECK (drop_in IN (0, 1));
ALTER TABLE events ADD COLUMN price_words TEXT NOT NULL DEFAULT '';
ALTER TABLE events ADD COLUMN contact TEXT NOT NULL DEFAULT '';

CREATE TABLE house_rules (
    id    INTEGER PRIMARY KEY CHECK (id = 1),
    -- JSON.
    rules TEXT NOT NULL
) STRICT;

CREATE TABLE submissions (
    id         INTEGER PRIMARY KEY,
    -- Whoever proved the address; NULL while nobody has.
    person_id  INTEGER REFERENCES people (id),
    email      TEXT NOT NULL DEFAULT '',
    name       TEXT NOT NULL DEFAULT '',
    state      TEXT NOT NULL DEFAULT 'not sent yet'
               CHECK (state IN ('not sent yet', 'received', 'sent back', 'accepted', 'turned down', 'withdrawn')),
    -- What was typed, as JSON, and how often it became another.
    typed      TEXT NOT NULL,
    version    INTEGER NOT NULL DEFAULT 0,
    title      TEXT NOT NULL DEFAULT '',
    -- A change to what was accepted, as JSON; it waits for a reviewer.
    change     TEXT,
    -- What the checks found, as JSON, the light word, and the version of all plans they looked at.
    findings   TEXT NOT NULL DEFAULT '[]',
    light      TEXT NOT NULL DEFAULT 'looks right',
    checked    INTEGER NOT NULL DEFAULT -1,
    -- How it was sent, as JSON; the browser and the network, as keyed hashes; 0 is unknown.
    sent       TEXT NOT NULL DEFAULT '{}',
    browser    INTEGER NOT NULL DEFAULT 0,
    network    INTEGER NOT NULL DEFAULT 0,
    event_id   INTEGER REFERENCES events (id),
    begun_at   INTEGER NOT NULL,
    sent_at    INTEGER,
    -- Since when it waits for a reviewer; NULL while it does not.
    waits_since INTEGER,
    decided_at INTEGER,
    -- Until when that can be taken back.
    undo_until INTEGER
) STRICT;
CREATE INDEX submissions_waiting ON submissions (waits_since) WHERE waits_since IS NOT NULL;
CREATE INDEX submissions_by_person ON submissions (person_id, id) WHERE person_id IS NOT NULL;
CREATE INDEX submissions_by_event ON submissions (event_id) WHERE event_id IS NOT NULL;
CREATE INDEX submissions_unsent ON submissions (begun_at) WHERE state = 'not sent yet';
CREATE INDEX submissions_by_network ON submissions (network, sent_at) WHERE sent_at IS NOT NULL;
CREATE INDEX submissions_by_sender ON submissions (email, sent_at) WHERE sent_at IS NOT NULL;
CREATE INDEX submissions_over ON submissions (decided_at) WHERE state IN ('turned down', 'withdrawn');
CREATE INDEX submissions_decided ON submissions (decided_at) WHERE decided_at IS NOT NULL;

-- When the dates of a submission that waits start: local, and as instants to be found by.
CREATE TABLE submission_dates (
    submission_id INTEGER NOT NULL REFERENCES submissions (id) ON DELETE CASCADE,
    starts        TEXT NOT NULL,
    starts_at     INTEGER NOT NULL,
    PRIMARY KEY (submission_id, starts_at)
) STRICT, WITHOUT ROWID;
CREATE INDEX submission_dates_by_start ON submission_dates (starts_at);

-- What happened to a submission. Only ever added to, and erased with it.
CREATE TABLE submission_acts (
    id            INTEGER PRIMARY KEY,
    submission_id INTEGER NOT NULL REFERENCES submissions (id) ON DELETE CASCADE,
    at            INTEGER NOT NULL,
    act           TEXT NOT NULL,
    -- NULL for the submitter and the program.
    person_id     INTEGER REFERENCES people (id),
    who           TEXT NOT NULL,
    -- Words said with it.
    words         TEXT NOT NULL DEFAULT '',
    -- Each field that changed, before and after, as JSON.
    difference    TEXT NOT NULL DEFAULT '[]',
    -- What was typed before, as JSON, where taking it back needs it.
    before        TEXT,
    -- Taken back since.
    undone        INTEGER NOT NULL DEFAULT 0 CHECK (undone IN (0, 1))
) STRICT;
CREATE INDEX submission_acts_by_submission ON submission_acts (submission_id, id);
CREATE INDEX submission_acts_by_time ON submission_acts (at);

CREATE TABLE submission_pictures (
    id            INTEGER PRIMARY KEY,
    submission_id INTEGER NOT NULL UNIQUE REFERENCES submissions (id) ON DELETE CASCADE,
    alt           TEXT NOT NULL,
    width         INTEGER NOT NULL,
    height        INTEGER NOT NULL,
    large         BLOB NOT NULL,
    small         BLOB NOT NULL
) STRICT;

-- People whose submissions land where those of trusted people do; or who were proposed for that
-- and not taken, after so many accepted.
CREATE TABLE trusted (
    person_id INTEGER PRIMARY KEY REFERENCES people (id),
    yes       INTEGER NOT NULL CHECK (yes IN (0, 1)),
    at        INTEGER NOT NULL,
    who       TEXT NOT NULL,
    accepted  INTEGER NOT NULL
) STRICT;

-- What the public complains of.
CREATE TABLE complaints (
    id         INTEGER PRIMARY KEY,
    event_id   INTEGER NOT NULL REFERENCES events (id),
    email      TEXT NOT NULL DEFAULT '',
    words      TEXT NOT NULL,
    network    INTEGER NOT NULL DEFAULT 0,
    at         INTEGER NOT NULL,
    -- 'open', 'right' or 'not right'.
    outcome    TEXT NOT NULL DEFAULT 'open' CHECK (outcome IN ('open', 'right', 'not right')),
    decided_at INTEGER,
    who        TEXT NOT NULL DEFAULT '',
    person_id  INTEGER REFERENCES people (id),
    -- The event was taken out of the Programme with it.
    taken_out  INTEGER NOT NULL DEFAULT 0 CHECK (taken_out IN (0, 1)),
    undo_until INTEGER
) STRICT;
CREATE INDEX complaints_open ON complaints (at) WHERE outcome = 'open';
CREATE INDEX complaints_by_event ON complaints (event_id, at);
CREATE INDEX complaints_by_network ON complaints (network, at);

-- A message about a submission is about the person who sent it as well.
ALTER TABLE outbox ADD COLUMN submission_id INTEGER REFERENCES submissions (id);
CREATE INDEX outbox_by_submission ON outbox (submission_id) WHERE submission_id IS NOT NULL;

-- How dates get into calendars: web calendars of the house, and whether the feeds of hosts name
-- who comes.
ALTER TABLE house ADD COLUMN web_calendars TEXT NOT NULL DEFAULT '[]';
ALTER TABLE house ADD COLUMN names_in_feeds INTEGER NOT NULL DEFAULT 0 CHECK (names_in_feeds IN (0, 1));

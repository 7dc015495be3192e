-- A time that a calendar proposes instead (RFC 5546 §3.2.7): which date, from and until.
ALTER TABLE letters ADD COLUMN proposed TEXT;
-- Who is chosen, as it was asked for: each reader is looked at once more when the message goes.
ALTER TABLE announcements ADD COLUMN chosen TEXT NOT NULL DEFAULT '';
-- The name that stood beside the address when it was put on the list.
ALTER TABLE invited ADD COLUMN name TEXT NOT NULL DEFAULT '';
-- A letter that found its place and asks for an answer, until it has one or is put away.
ALTER TABLE letters ADD COLUMN to_answer INTEGER NOT NULL DEFAULT 0;
CREATE INDEX letters_to_answer ON letters (at) WHERE to_answer = 1 AND put_away_at IS NULL;
-- The words of bookings, for those that are typed with a slip.
CREATE VIRTUAL TABLE booking_vocabulary USING fts5vocab (booking_words, 'row');

-- A time that a calendar proposes instead (RFC 5546 §3.2.7): which date, from and until.
ALTER TABLE letters ADD COLUMN proposed TEXT;

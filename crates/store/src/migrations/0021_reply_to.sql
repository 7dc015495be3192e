-- Where the writer of a letter wants answers (RFC 5322 §3.6.2); empty for where it came from.
ALTER TABLE letters ADD COLUMN answer_to TEXT NOT NULL DEFAULT '';

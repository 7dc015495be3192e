-- A file of version 2, as the program wrote it: three events, bookings in every state.
INSERT INTO house (id, name, currency, zone, email, terms)
    VALUES (1, 'Old house', 'EUR', 'Europe/Dublin', 'office@old.example', 'Be kind. "Quotes" \ and all.');
UPDATE house SET embed_sites = 'https://a.example' || char(10) || 'https://b.example:8443', steps = '[[30,100],[7,40]]';
INSERT INTO venues (id, name, address) VALUES (1, 'Millrace Barn', '3 Weir Lane');
INSERT INTO people (id, email, name, role, password_hash, made_at)
    VALUES (1, 'ilse@old.example', 'Ilse Karrow', 'organiser', 'x', 1);
INSERT INTO tax_rates (id, name, basis) VALUES (1, 'Standard', 2300);
INSERT INTO events (id, slug, title, kind, lead, description, state, made_at, approval) VALUES
    (1, 'walk', 'Apiary walk', 'Visit', '', '', 'published', 1, 0),
    (2, 'talk', 'A talk by request', 'Talk', '', '', 'published', 1, 1),
    (3, 'gone', 'Called off', 'Visit', '', '', 'called off', 1, 0);
UPDATE events SET who = '{"invited":["o''hara@post.example","Ana@post.example"]}' WHERE id = 2;
INSERT INTO event_text (rowid, words) VALUES (1, 'apiary walk visit'), (2, 'a talk by request'), (3, 'called off visit');
INSERT INTO patterns (id, name, plan, made_at) VALUES
    (1, 'Asked', '{"approval":true,"rules":{}}', 1), (2, 'Plain', '{"approval":false,"who":{"invited":["ana@post.example"]}}', 1);
INSERT INTO dates (id, event_id, starts, ends, zone, starts_at, ends_at, venue_id) VALUES
    (1, 1, '2026-12-05T10:00', '2026-12-05T12:00', 'Europe/Dublin', 1796464800000000, 1796472000000000, 1),
    (2, 2, '2026-12-06T19:00', '2026-12-06T21:00', 'Europe/Dublin', 1796583600000000, 1796590800000000, 1),
    (3, 3, '2026-12-07T10:00', '2026-12-07T12:00', 'Europe/Dublin', 1796637600000000, 1796644800000000, 1);
INSERT INTO pool_kinds (id, event_id, position, name) VALUES
    (1, 1, 0, 'seats'), (2, 1, 1, 'suits'), (3, 2, 0, 'seats'), (4, 3, 0, 'seats');
INSERT INTO pools (id, date_id, kind_id, capacity, held, requested, awaiting_payment, confirmed) VALUES
    (1, 1, 1, 20, 1, 0, 1, 5), (2, 1, 2, 6, 0, 0, 0, 4), (3, 2, 3, 9, 0, 2, 0, 0), (4, 3, 4, 9, 0, 0, 0, 0);
INSERT INTO ticket_types (id, event_id, position, name, minor, admits, tax_rate_id) VALUES
    (1, 1, 0, 'Visitor', 1200, 1, 1), (2, 1, 1, 'Family of four', 3000, 4, NULL),
    (3, 2, 0, 'Seat', 0, 1, NULL), (4, 3, 0, 'Seat', 500, 1, NULL);
UPDATE ticket_types SET invited = '["bo@post.example","ana@post.example"]' WHERE id = 3;
INSERT INTO draws VALUES (1, 1, 1), (2, 1, 4), (2, 2, 4), (3, 3, 1), (4, 4, 1);
INSERT INTO bookings (id, reference, date_id, state, deadline, total_minor, paid_minor, name, email, search, made_at) VALUES
    (1, 'CBBBBBBH', 1, 'confirmed', NULL, 4200, 4200, 'Siân O''Hara', 'Sian@Post.example', 'sian ohara sian post example cbbbbbbh', 10),
    (2, 'DBBBBBBP', 1, 'awaiting payment', 1780653600000000, 1200, 0, 'Ezra Quill', 'ezra@post.example', 'ezra quill ezra post example', 20),
    (3, 'FBBBBBBX', 2, 'requested', NULL, 0, 0, 'Marit Solheim', 'marit@post.example', 'marit solheim marit post example', 30),
    (4, 'GBBBBBBK', 3, 'cancelled', NULL, 500, 500, 'Nadia Rees', 'nadia@post.example', 'nadia rees nadia post example', 40),
    (5, 'HBBBBBBD', 1, 'held', 1780653600000000, 1200, 0, '', '', '', 50),
    (6, 'JBBBBBBT', 1, 'lapsed', NULL, 1200, 0, 'Dov Tarn', 'dov@post.example', 'dov tarn dov post example', 60),
    (7, 'KBBBBBBL', 2, 'declined', NULL, 0, 0, 'Orla Wren', 'orla@post.example', 'orla wren orla post example', 70);
INSERT INTO booking_lines (booking_id, ticket_type_id, position, name, quantity, base_minor, unit_minor) VALUES
    (1, 2, 0, 'Family of four', 1, 3000, 3000), (1, 1, 1, 'Visitor', 1, 1200, 1200), (2, 1, 0, 'Visitor', 1, 1200, 1200), (3, 3, 0, 'Seat', 2, 0, 0),
    (4, 4, 0, 'Seat', 1, 500, 500), (5, 1, 0, 'Visitor', 1, 1200, 1200), (6, 1, 0, 'Visitor', 1, 1200, 1200),
    (7, 3, 0, 'Seat', 1, 0, 0);
INSERT INTO booking_draws VALUES (1, 1, 5), (1, 2, 4), (2, 1, 1), (3, 3, 2), (4, 4, 1), (5, 1, 1), (6, 1, 1), (7, 3, 1);
INSERT INTO attendees (id, booking_id, date_id, position, person_no, ticket_name, name, search, code) VALUES
    (1, 1, 1, 0, 0, 'Family of four', 'Siân O''Hara', 'sian ohara', 'CBBBBBBBBBTS'),
    (2, 1, 1, 1, 1, 'Family of four', 'Sam', 'sam', 'DBBBBBBBBBNR'),
    (3, 1, 1, 2, 2, 'Family of four', 'Kit', 'kit', 'FBBBBBBBBBGK'),
    (4, 1, 1, 3, 3, 'Family of four', 'Ros', 'ros', 'GBBBBBBBBBCH'),
    (12, 1, 1, 4, 4, 'Visitor', 'Una', 'una', 'NBBBBBBBBBXJ'),
    (5, 2, 1, 0, 0, 'Visitor', 'Ezra Quill', 'ezra quill', 'HBBBBBBBBBSN'),
    (6, 3, 2, 0, 0, 'Seat', 'Marit Solheim', 'marit solheim', 'JBBBBBBBBBLV'),
    (7, 3, 2, 1, 1, 'Stool', 'Nils', 'nils', 'KBBBBBBBBBHD'),
    (8, 4, 3, 0, 0, 'Seat', 'Nadia Rees', 'nadia rees', 'LBBBBBBBBBDP'),
    (9, 5, 1, 0, 0, 'Visitor', '', '', 'SBBBBBBBBBFX'),
    (10, 6, 1, 0, 0, 'Visitor', 'Dov Tarn', 'dov tarn', 'PBBBBBBBBBRC'),
    (11, 7, 2, 0, 0, 'Seat', 'Orla Wren', 'orla wren', 'RBBBBBBBBBJT');
INSERT INTO payments (id, booking_id, provider_id, pay_url, amount_minor, state, made_at, settled_at, next_check_at) VALUES
    ('00000000-0000-7000-8000-000000000001', 1, 'p1', 'https://till.example/1', 4200, 'paid', 10, 11, NULL),
    ('00000000-0000-7000-8000-000000000002', 2, 'p2', 'https://till.example/2', 1200, 'open', 20, NULL, 1780653600000000),
    ('00000000-0000-7000-8000-000000000004', 4, 'p4', 'https://till.example/4', 500, 'paid', 40, 41, NULL),
    ('00000000-0000-7000-8000-000000000006', 6, 'p6', 'https://till.example/6', 1200, 'surplus', 60, 61, NULL);
INSERT INTO outbox (id, unique_key, booking_id, kind, address, message_id, state, planned_at, sent_at) VALUES
    (1, 'confirmation 1', 1, 'confirmation', 'sian@post.example', 'm1@old.example', 'sent', 11, 12),
    (2, 'called off 4', 4, 'called off', 'nadia@post.example', 'm4@old.example', 'sent', 41, 42);
INSERT INTO timeline (booking_id, at, who, what) VALUES (1, 10, 'the booker', 'chose seats'), (1, 11, 'Matricle', 'confirmed');

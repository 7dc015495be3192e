-- The people of a booking are found by the index of their places as well: one less to write.
DROP INDEX attendees_by_booking;

-- Counts the changes of what events offer, so that whoever keeps what they read of it knows
-- whether it is still so. Seats taken and people let in are no change of a plan.
CREATE TABLE plan_version (
    id INTEGER PRIMARY KEY CHECK (id = 1),
    n  INTEGER NOT NULL
) STRICT;
INSERT INTO plan_version VALUES (1, 0);
CREATE TRIGGER house_added AFTER INSERT ON house BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER house_changed AFTER UPDATE ON house BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER house_removed AFTER DELETE ON house BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER events_added AFTER INSERT ON events BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER events_changed AFTER UPDATE ON events BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER events_removed AFTER DELETE ON events BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER dates_added AFTER INSERT ON dates BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER dates_changed AFTER UPDATE OF event_id, starts, ends, zone, starts_at, ends_at, venue_id, room_id, run_id, called_off, sequence, setup_minutes, clearup_minutes, changed_at
    ON dates BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER dates_removed AFTER DELETE ON dates BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER venues_added AFTER INSERT ON venues BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER venues_changed AFTER UPDATE ON venues BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER venues_removed AFTER DELETE ON venues BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER rooms_added AFTER INSERT ON rooms BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER rooms_changed AFTER UPDATE ON rooms BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER rooms_removed AFTER DELETE ON rooms BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER hosts_added AFTER INSERT ON hosts BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER hosts_changed AFTER UPDATE ON hosts BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER hosts_removed AFTER DELETE ON hosts BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER date_hosts_added AFTER INSERT ON date_hosts BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER date_hosts_changed AFTER UPDATE ON date_hosts BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER date_hosts_removed AFTER DELETE ON date_hosts BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER ticket_types_added AFTER INSERT ON ticket_types BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER ticket_types_changed AFTER UPDATE ON ticket_types BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER ticket_types_removed AFTER DELETE ON ticket_types BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER tax_rates_added AFTER INSERT ON tax_rates BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER tax_rates_changed AFTER UPDATE ON tax_rates BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER tax_rates_removed AFTER DELETE ON tax_rates BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER card_kinds_added AFTER INSERT ON card_kinds BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER card_kinds_changed AFTER UPDATE ON card_kinds BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER card_kinds_removed AFTER DELETE ON card_kinds BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER draws_added AFTER INSERT ON draws BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER draws_changed AFTER UPDATE ON draws BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER draws_removed AFTER DELETE ON draws BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER pool_kinds_added AFTER INSERT ON pool_kinds BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER pool_kinds_changed AFTER UPDATE ON pool_kinds BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER pool_kinds_removed AFTER DELETE ON pool_kinds BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER pools_added AFTER INSERT ON pools BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER pools_changed AFTER UPDATE OF date_id, kind_id, capacity ON pools BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER pools_removed AFTER DELETE ON pools BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER slot_plans_added AFTER INSERT ON slot_plans BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER slot_plans_changed AFTER UPDATE ON slot_plans BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER slot_plans_removed AFTER DELETE ON slot_plans BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER questions_added AFTER INSERT ON questions BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER questions_changed AFTER UPDATE ON questions BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER questions_removed AFTER DELETE ON questions BEGIN UPDATE plan_version SET n = n + 1; END;

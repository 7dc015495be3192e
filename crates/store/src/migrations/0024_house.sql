-- The house's settings are one value, in a shape that is counted: they are read and written whole.
ALTER TABLE house RENAME TO house_before;

CREATE TABLE house (
    id          INTEGER PRIMARY KEY CHECK (id = 1),
    shape       INTEGER NOT NULL,
    settings    TEXT NOT NULL CHECK (json_valid(settings)),
    -- What statements ask for on the way.
    currency    TEXT NOT NULL GENERATED ALWAYS AS (settings ->> 'currency') STORED,
    forwards_to TEXT NOT NULL DEFAULT ''
) STRICT;

INSERT INTO house (id, shape, settings, forwards_to)
SELECT id, 1,
       json_object(
           'name', name,
           'currency', currency,
           'zone', zone,
           'email', email,
           'terms', terms,
           'steps', json(steps),
           -- One on a line; an origin has neither quotes nor a backslash.
           'embed_sites', json(CASE embed_sites
               WHEN '' THEN '[]'
               ELSE '[' || replace(json_quote(embed_sites), '\n', '","') || ']'
           END),
           'seller', seller,
           'tax_number', tax_number,
           'account_holder', payee,
           'iban', iban,
           'bic', bic,
           'transfer_days', transfer_days,
           'accent', accent,
           'web_calendars', json(web_calendars),
           'names_in_feeds', json(iif(names_in_feeds, 'true', 'false'))
       ),
       forwards_to
FROM house_before;

DROP TABLE house_before;

-- They went with the table that they stood on.
CREATE TRIGGER house_added AFTER INSERT ON house BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER house_changed AFTER UPDATE ON house BEGIN UPDATE plan_version SET n = n + 1; END;
CREATE TRIGGER house_removed AFTER DELETE ON house BEGIN UPDATE plan_version SET n = n + 1; END;

-- One word for one thing: clients of a setup, and setups in the record of changes.
ALTER TABLE desk_setup RENAME COLUMN panes TO clients;
UPDATE audit SET kind = 'desk setup' WHERE kind = 'desk set-up';

-- The encoding of a payload is called so.
UPDATE desk_setup SET clients = (
    SELECT coalesce(jsonb_agg(CASE WHEN client ? 'form'
        THEN client - 'form' || jsonb_build_object('encoding', client -> 'form') ELSE client END ORDER BY place), '[]')
    FROM jsonb_array_elements(clients) WITH ORDINALITY AS each (client, place)
) WHERE jsonb_typeof(clients) = 'array';

-- Identities and addresses that are not let in for a time.
CREATE TABLE ban (
    id text PRIMARY KEY,
    -- identity or address.
    kind text NOT NULL,
    name text NOT NULL,
    until timestamptz NOT NULL,
    note text NOT NULL,
    person text NOT NULL,
    UNIQUE (kind, name)
);

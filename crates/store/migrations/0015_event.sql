-- What happened now and then: connections, sign-ins, sessions, subscriptions, changes, the database.
CREATE TABLE event (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at timestamptz NOT NULL,
    kind text NOT NULL,
    identity text NOT NULL,
    client_id text NOT NULL,
    address text NOT NULL,
    subject text NOT NULL,
    explanation text NOT NULL,
    -- More than one for those that were too many to list.
    times bigint NOT NULL
);
CREATE INDEX event_at ON event (at);
CREATE INDEX event_kind ON event (kind, id);
CREATE INDEX event_identity ON event (identity, id) WHERE identity <> '';
CREATE INDEX event_client ON event (client_id, id) WHERE client_id <> '';
CREATE INDEX event_address ON event (address, id) WHERE address <> '';

-- Sessions that outlive their connections, with what they keep (MQTT 5.0 section 4.1). Times are microseconds since
-- 1970. There are no foreign keys: rows are written in batches, by one writer, in an order that it keeps itself.
CREATE TABLE session (
    key bigint PRIMARY KEY,
    client_id text NOT NULL,
    identity text NOT NULL,
    -- Seconds that it outlives its connection; 4294967295 is for ever.
    expiry bigint NOT NULL,
    -- When its connection ended; null while it is connected.
    away_since bigint,
    began_at bigint NOT NULL,
    -- The will that is to be published, as a PUBLISH packet of 5.0, and its delay in seconds.
    will bytea,
    will_delay bigint NOT NULL DEFAULT 0
);

CREATE TABLE subscription (
    session bigint NOT NULL,
    -- The first 16 bytes of the filter's SHA-256: a filter may be too long for an index.
    filter_key bytea NOT NULL,
    filter text NOT NULL,
    -- QoS in bits 0 and 1, no local in 2, retain as published in 3, retain handling in 4 and 5.
    options smallint NOT NULL,
    identifier bigint,
    PRIMARY KEY (session, filter_key)
);

-- Messages that wait for a kept session, are in flight to one, or are retained.
CREATE TABLE message (
    number bigint PRIMARY KEY,
    topic text NOT NULL,
    payload bytea NOT NULL,
    -- As in a PUBLISH packet of 5.0, length included.
    properties bytea NOT NULL,
    qos smallint NOT NULL,
    retain boolean NOT NULL,
    -- Whether it is the retained message of its topic.
    retained boolean NOT NULL,
    publisher bigint NOT NULL,
    received bigint NOT NULL
);

-- Which session a message waits for, in the order of "sequence".
CREATE TABLE delivery (
    session bigint NOT NULL,
    sequence bigint NOT NULL,
    message bigint NOT NULL,
    qos smallint NOT NULL,
    retain boolean NOT NULL,
    identifiers bigint[],
    shared text,
    -- Present once it was sent under this packet identifier.
    packet_id integer,
    -- Present once the client has acknowledged a QoS 2 message by PUBREC; in the order in which these came.
    released bigint,
    PRIMARY KEY (session, sequence)
);

-- Packet identifiers of QoS 2 messages that a session has sent and not released.
CREATE TABLE received (
    session bigint NOT NULL,
    packet_id integer NOT NULL,
    PRIMARY KEY (session, packet_id)
);

-- One row: whether the service runs. Found true at a start, it did not stop in order.
CREATE TABLE running (
    single boolean PRIMARY KEY DEFAULT true CHECK (single),
    since bigint NOT NULL
);

-- Rows come and go by the thousand; what they leave is to be cleared away early.
ALTER TABLE message SET (autovacuum_vacuum_scale_factor = 0.05, autovacuum_vacuum_threshold = 5000);
ALTER TABLE delivery SET (autovacuum_vacuum_scale_factor = 0.05, autovacuum_vacuum_threshold = 5000);

-- How subjects of alerts stand, as far as that is not just in the band.
CREATE TABLE alert_standing (
    alert text NOT NULL,
    subject text NOT NULL,
    phase text NOT NULL,
    -- Microseconds since 1970.
    since bigint NOT NULL,
    out_since bigint,
    value float8,
    worst float8,
    raises bigint[] NOT NULL,
    flapping boolean NOT NULL,
    -- Whether the last notice said that it is out.
    told boolean NOT NULL,
    PRIMARY KEY (alert, subject)
);

-- Alerts of which nobody is told for a while.
CREATE TABLE alert_quiet (
    alert text PRIMARY KEY,
    person text NOT NULL,
    until timestamptz NOT NULL
);

-- What is told of alerts, to each address.
CREATE TABLE notice (
    number bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    -- The same for all addresses, and however often it is sent.
    id text NOT NULL,
    alert text NOT NULL,
    contact text NOT NULL,
    way text NOT NULL,
    target text NOT NULL,
    at timestamptz NOT NULL,
    facts jsonb NOT NULL,
    state text NOT NULL,
    tries bigint NOT NULL,
    -- The last ones, oldest first.
    attempts jsonb NOT NULL,
    -- When it is tried next, if it waits.
    next_at timestamptz,
    UNIQUE (id, contact, way, target)
);
CREATE INDEX notice_waiting ON notice (way, target, number) WHERE state = 'waiting';
CREATE INDEX notice_alert ON notice (alert, number);
CREATE INDEX notice_at ON notice (at);

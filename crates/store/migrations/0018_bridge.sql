-- By which other brokers know this one, whatever it is called.
CREATE TABLE broker_name (
    single boolean PRIMARY KEY DEFAULT true CHECK (single),
    name text NOT NULL,
    -- Makes names of messages.
    secret text NOT NULL
);

-- What is known of a bridge besides its design.
CREATE TABLE bridge (
    name text PRIMARY KEY,
    paused boolean NOT NULL DEFAULT false,
    -- Where its session here was connected with last.
    remote text NOT NULL DEFAULT '',
    -- Filters that it has subscribed to, here and there.
    here text[] NOT NULL DEFAULT '{}',
    there text[] NOT NULL DEFAULT '{}',
    -- The password that it shows there.
    secret bytea
);

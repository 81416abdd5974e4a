-- What is known of topics that are made of others. It holds as long as the design says the same of them.
CREATE TABLE derived (
    name text NOT NULL,
    topic text NOT NULL,
    says text NOT NULL,
    state text NOT NULL,
    PRIMARY KEY (name, topic)
);

-- What is subscribed to for them.
CREATE TABLE derived_filter (filter text PRIMARY KEY);

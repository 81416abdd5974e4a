-- Who owns topics that have one owner at a time, and since when, microseconds since 1970.
CREATE TABLE owner (
    topic text PRIMARY KEY,
    client_id text NOT NULL,
    identity text NOT NULL,
    strength float8,
    since bigint NOT NULL
);

-- Who may connect. The access rules see the name and the attributes.
CREATE TABLE identity (
    name text PRIMARY KEY,
    attributes jsonb NOT NULL DEFAULT '{}',
    password_hash text,
    enabled boolean NOT NULL DEFAULT true,
    note text NOT NULL DEFAULT '',
    created_at timestamptz NOT NULL DEFAULT now(),
    changed_at timestamptz NOT NULL DEFAULT now()
);

-- What the broker carried in the span that ended at "at". Spans of about one second are kept for two days, spans of
-- about one minute for good.
CREATE TABLE throughput_sample (
    resolution smallint NOT NULL CHECK (resolution IN (1, 60)),
    at timestamptz NOT NULL,
    span_seconds double precision NOT NULL CHECK (span_seconds > 0),
    sessions bigint NOT NULL,
    messages_in bigint NOT NULL,
    messages_out bigint NOT NULL,
    bytes_in bigint NOT NULL,
    bytes_out bigint NOT NULL,
    PRIMARY KEY (resolution, at)
);

-- Who is signed in to the console. Only the hash of a token is kept.
CREATE TABLE console_session (
    token_hash bytea PRIMARY KEY,
    created_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL
);

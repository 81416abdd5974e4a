-- The design of the broker as it was applied, revision by revision. The highest number is in force.
CREATE TABLE revision (
    number bigint PRIMARY KEY,
    applied_at timestamptz NOT NULL DEFAULT now(),
    author text NOT NULL,
    message text NOT NULL,
    -- The files of the blueprint: [{"name": …, "text": …}].
    files jsonb NOT NULL
);

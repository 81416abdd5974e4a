-- Set-ups of the bench: which clients stand on it, and what they subscribe to and publish.
CREATE TABLE bench_setup (
    name text PRIMARY KEY,
    -- As the console wrote it.
    panes jsonb NOT NULL,
    changed_by text NOT NULL,
    changed_at timestamptz NOT NULL DEFAULT now()
);

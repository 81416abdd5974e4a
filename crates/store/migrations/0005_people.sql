-- Who may run the broker.
CREATE TABLE person (
    name text PRIMARY KEY,
    password_hash text NOT NULL,
    -- watch, operate, design or own.
    role text NOT NULL CHECK (role IN ('watch', 'operate', 'design', 'own')),
    created_at timestamptz NOT NULL DEFAULT now(),
    changed_at timestamptz NOT NULL DEFAULT now()
);

-- A session of the console or the command line is a person's, or the administrator's when it is nobody's.
ALTER TABLE console_session ADD COLUMN person text REFERENCES person (name) ON DELETE CASCADE;

-- What was changed, by whom, and from where.
CREATE TABLE audit (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at timestamptz NOT NULL DEFAULT now(),
    person text NOT NULL,
    address text NOT NULL,
    -- What was done, for example "apply" or "put".
    act text NOT NULL,
    -- To what: its kind and its name.
    kind text NOT NULL,
    name text NOT NULL,
    before jsonb,
    after jsonb
);
CREATE INDEX audit_by_thing ON audit (kind, name);

-- What an identity's client certificates are known by, for example ["dns:kettle-weir.harrowmere.example"].
ALTER TABLE identity ADD COLUMN certificates jsonb NOT NULL DEFAULT '[]';

-- Authorities that sign client certificates.
CREATE TABLE authority (
    name text PRIMARY KEY,
    -- One or more certificates.
    pem text NOT NULL,
    added_at timestamptz NOT NULL DEFAULT now()
);

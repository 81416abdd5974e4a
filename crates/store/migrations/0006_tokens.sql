-- Tokens by which identities sign in. Only their identifiers are kept: a token proves itself by its signature.
CREATE TABLE identity_token (
    id text PRIMARY KEY,
    identity text NOT NULL REFERENCES identity (name) ON DELETE CASCADE,
    name text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL,
    UNIQUE (identity, name)
);

-- The key that tokens are signed with, one for all.
CREATE TABLE signing_key (
    single boolean PRIMARY KEY DEFAULT true CHECK (single),
    key bytea NOT NULL
);

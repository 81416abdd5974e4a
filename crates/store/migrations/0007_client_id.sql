-- The only client identifier that an identity may use; null for any.
ALTER TABLE identity ADD COLUMN client_id text;

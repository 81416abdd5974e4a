-- Whose a retained message is: it counts in the share of its publisher's identity. Known for retained messages only.
ALTER TABLE message ADD COLUMN owner text;

-- A token is a secret of which only the digest is kept, in place of a signature by a key in this database. The digests of
-- earlier tokens are made at the next start, and the key is forgotten then.
ALTER TABLE identity_token ADD COLUMN digest bytea;

-- Whether retained messages of a new subscription are still to be sent.
ALTER TABLE subscription ADD COLUMN retained_due boolean NOT NULL DEFAULT false;

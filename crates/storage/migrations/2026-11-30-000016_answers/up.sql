-- Whether a key's records may be in other partitions than the key's: partitions came, or an append named one. Of topics that are
-- there it is not known.
ALTER TABLE topics ADD COLUMN scattered boolean NOT NULL DEFAULT true;
ALTER TABLE topics ALTER COLUMN scattered SET DEFAULT false;

-- What a request was answered beside where its records landed, for whoever sends it again; and what the request was.
ALTER TABLE idempotency_keys ADD COLUMN told bytea;
ALTER TABLE session_answers ADD COLUMN told bytea, ADD COLUMN digest bytea;

-- the report of a connector's last preflight, kept with it
ALTER TABLE connectors ADD COLUMN preflight jsonb;

ALTER TABLE connections
    ADD COLUMN tls text NOT NULL DEFAULT 'prefer' CHECK (tls IN ('off', 'prefer', 'require', 'verify')),
    -- certificates that the server's may be signed by, as PEM text; none means those the machine trusts
    ADD COLUMN ca text,
    -- a second login that reads the server's log, where the first may not
    ADD COLUMN log_username text,
    ADD COLUMN sealed_log_password bytea,
    -- settings of every session, by name
    ADD COLUMN settings jsonb NOT NULL DEFAULT '{}',
    ADD CHECK ((log_username IS NULL) = (sealed_log_password IS NULL));

-- tables of source connectors that are to be loaded again; a lane takes up requests beyond the last its position names
CREATE TABLE reloads (
    number bigserial PRIMARY KEY,
    connector_id uuid NOT NULL REFERENCES connectors ON DELETE CASCADE,
    tables text[] NOT NULL,
    asked_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX reloads_by_connector ON reloads (connector_id, number);

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

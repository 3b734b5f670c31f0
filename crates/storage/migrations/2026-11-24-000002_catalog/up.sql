CREATE TABLE schemas (
    id bigserial PRIMARY KEY,
    topic text NOT NULL,
    role text NOT NULL CHECK (role IN ('key', 'value')),
    version int NOT NULL,
    text text NOT NULL,
    fingerprint bigint NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (topic, role, version)
);
CREATE UNIQUE INDEX schemas_by_text ON schemas (topic, role, md5(text));
CREATE INDEX schemas_by_fingerprint ON schemas (fingerprint);

CREATE TABLE connections (
    id uuid PRIMARY KEY,
    name text NOT NULL UNIQUE,
    kind text NOT NULL,
    host text NOT NULL,
    port int NOT NULL,
    database text NOT NULL,
    username text NOT NULL,
    sealed_password bytea NOT NULL,
    revision int NOT NULL DEFAULT 1,
    created_at timestamptz NOT NULL DEFAULT now(),
    updated_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE connectors (
    id uuid PRIMARY KEY,
    name text NOT NULL UNIQUE,
    connection_id uuid NOT NULL REFERENCES connections,
    definition jsonb NOT NULL,
    wish text NOT NULL CHECK (wish IN ('draft', 'run', 'pause', 'delete')),
    -- counts what was asked; a lane that runs under an earlier count starts again
    asked int NOT NULL DEFAULT 0,
    version int NOT NULL DEFAULT 1,
    created_at timestamptz NOT NULL DEFAULT now(),
    updated_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE lanes (
    connector_id uuid NOT NULL REFERENCES connectors ON DELETE CASCADE,
    lane int NOT NULL,
    epoch bigint NOT NULL DEFAULT 0,
    holder text,
    expires_at timestamptz NOT NULL DEFAULT now(),
    position jsonb NOT NULL DEFAULT 'null',
    status jsonb,
    PRIMARY KEY (connector_id, lane)
) WITH (fillfactor = 50);

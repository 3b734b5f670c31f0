-- Runners. The instance tells two processes of one name apart: the later one is the runner.
CREATE TABLE runners (
    name text PRIMARY KEY,
    instance uuid NOT NULL,
    labels jsonb NOT NULL DEFAULT '{}',
    room int NOT NULL CHECK (room > 0),
    host text NOT NULL,
    release text NOT NULL,
    draining boolean NOT NULL DEFAULT false,
    started_at timestamptz NOT NULL DEFAULT now(),
    beat_at timestamptz NOT NULL DEFAULT now(),
    alive_until timestamptz NOT NULL
) WITH (fillfactor = 50);

-- Epochs grow across all lanes: a partition that goes from one lane of a connector to another goes to a later lease.
CREATE SEQUENCE lane_epochs;
SELECT setval('lane_epochs', greatest((SELECT max(epoch) FROM lanes), 0) + 1);

-- runner is where the plan has the lane, and waits says why it has no place; asked counts restarts of this lane alone, and
-- mending what was asked of its quarantine
ALTER TABLE lanes
    ADD COLUMN runner text,
    ADD COLUMN waits text,
    ADD COLUMN asked int NOT NULL DEFAULT 0,
    ADD COLUMN mending bigint NOT NULL DEFAULT 0;

ALTER TABLE connectors DROP CONSTRAINT connectors_wish_check;
ALTER TABLE connectors ADD CONSTRAINT connectors_wish_check CHECK (wish IN ('draft', 'run', 'pause', 'stop', 'delete'));

-- What was done with a connector, by people and by itself. It outlives the connector.
CREATE TABLE connector_history (
    number bigserial PRIMARY KEY,
    connector_id uuid NOT NULL,
    connector text NOT NULL,
    at timestamptz NOT NULL DEFAULT now(),
    who text NOT NULL,
    what text NOT NULL,
    version int NOT NULL,
    detail text
);
CREATE INDEX connector_history_by_connector ON connector_history (connector_id, number);
INSERT INTO connector_history (connector_id, connector, at, who, what, version)
    SELECT id, name, created_at, '', 'made', 1 FROM connectors;

CREATE TABLE connector_lines (
    number bigserial PRIMARY KEY,
    connector_id uuid NOT NULL REFERENCES connectors ON DELETE CASCADE,
    lane int NOT NULL,
    runner text NOT NULL,
    at timestamptz NOT NULL,
    level text NOT NULL CHECK (level IN ('info', 'warning', 'error')),
    says text NOT NULL,
    facts jsonb NOT NULL DEFAULT '{}'
);
CREATE INDEX connector_lines_by_connector ON connector_lines (connector_id, number);

-- Records that could not be handled. cause is a fingerprint of what went wrong, by which they are grouped.
CREATE TABLE quarantine (
    id bigserial PRIMARY KEY,
    connector_id uuid NOT NULL REFERENCES connectors ON DELETE CASCADE,
    topic_id bigint NOT NULL,
    topic text NOT NULL,
    partition int NOT NULL,
    record_offset bigint NOT NULL,
    timestamp_us bigint NOT NULL,
    key bytea,
    value bytea,
    headers jsonb NOT NULL DEFAULT '[]',
    value_schema bigint,
    key_schema bigint,
    mended bytea,
    step text NOT NULL,
    finding text NOT NULL,
    statement text,
    cause bigint NOT NULL,
    version int NOT NULL,
    state text NOT NULL CHECK (state IN ('waiting', 'asked', 'delivered', 'discarded', 'superseded')),
    tries int NOT NULL DEFAULT 0,
    pace int,
    put_at timestamptz NOT NULL DEFAULT now(),
    settled_at timestamptz,
    settled_by text,
    reason text,
    expires_at timestamptz NOT NULL,
    UNIQUE (connector_id, topic_id, partition, record_offset)
);
CREATE INDEX quarantine_open ON quarantine (connector_id, cause, record_offset) WHERE state IN ('waiting', 'asked');
CREATE INDEX quarantine_expires ON quarantine (expires_at);

-- every definition a connector had
CREATE TABLE connector_versions (
    connector_id uuid NOT NULL REFERENCES connectors ON DELETE CASCADE,
    version int NOT NULL,
    definition jsonb NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (connector_id, version)
);
INSERT INTO connector_versions (connector_id, version, definition, made_at)
SELECT id, version, definition, created_at FROM connectors;

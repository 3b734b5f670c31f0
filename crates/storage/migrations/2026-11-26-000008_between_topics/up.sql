-- A connector that carries topics into topics reaches no system.
ALTER TABLE connectors ALTER COLUMN connection_id DROP NOT NULL;

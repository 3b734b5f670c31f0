DELETE FROM connectors WHERE connection_id IS NULL;
ALTER TABLE connectors ALTER COLUMN connection_id SET NOT NULL;

DROP INDEX schema_versions_by_text;
CREATE UNIQUE INDEX schema_versions_by_text ON schema_versions (schema_id, md5(text));

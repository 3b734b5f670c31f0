-- The same text with other references is another version. Which are the same is looked up under the schema's lock.
DROP INDEX schema_versions_by_text;
CREATE INDEX schema_versions_by_text ON schema_versions (schema_id, md5(text));

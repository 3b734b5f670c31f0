DROP TABLE schema_fields;
ALTER TABLE schema_versions ADD COLUMN topic text, ADD COLUMN role text;
UPDATE schema_versions v SET topic = left(s.name, -length(substring(s.name FROM '\.[^.]*$'))), role = substring(s.name FROM '[^.]*$')
FROM schemas s WHERE s.id = v.schema_id;
DELETE FROM schema_versions WHERE role IS NULL OR role NOT IN ('key', 'value');
DROP TABLE topic_schemas;
ALTER TABLE schema_versions
    DROP COLUMN schema_id, DROP COLUMN standalone, DROP COLUMN refers, DROP COLUMN author, DROP COLUMN why,
    ALTER COLUMN topic SET NOT NULL, ALTER COLUMN role SET NOT NULL;
DROP TABLE schemas;
ALTER TABLE schema_versions RENAME TO schemas;
ALTER INDEX schema_versions_by_fingerprint RENAME TO schemas_by_fingerprint;
CREATE UNIQUE INDEX schemas_by_text ON schemas (topic, role, md5(text));
ALTER TABLE schemas ADD UNIQUE (topic, role, version);

-- a schema is named, and its versions belong to it; topics are bound to schemas
ALTER TABLE schemas RENAME TO schema_versions;
ALTER INDEX schemas_by_fingerprint RENAME TO schema_versions_by_fingerprint;

CREATE TABLE schemas (
    id bigserial PRIMARY KEY,
    name text NOT NULL UNIQUE,
    language text NOT NULL CHECK (language IN ('avro', 'json-schema', 'protobuf')),
    description text NOT NULL DEFAULT '',
    owner text NOT NULL DEFAULT '',
    labels text[] NOT NULL DEFAULT '{}',
    reads_past text NOT NULL DEFAULT 'off' CHECK (reads_past IN ('off', 'latest', 'all')),
    past_reads text NOT NULL DEFAULT 'off' CHECK (past_reads IN ('off', 'latest', 'all')),
    revision int NOT NULL DEFAULT 1,
    created_at timestamptz NOT NULL DEFAULT now(),
    -- no version can be added any more; its records stay readable
    retired_at timestamptz
);

ALTER TABLE schema_versions
    ADD COLUMN schema_id bigint REFERENCES schemas,
    -- the text by which values are read, where it is not the text as it was written
    ADD COLUMN standalone text,
    -- the versions it names types of: [{"name": …, "version": …}]
    ADD COLUMN refers jsonb NOT NULL DEFAULT '[]',
    ADD COLUMN author text NOT NULL DEFAULT '',
    ADD COLUMN why text NOT NULL DEFAULT '';

-- a name has 200 characters at most: of the longest topics it is cut, and told apart by a digest
ALTER TABLE schema_versions ADD COLUMN named text;
UPDATE schema_versions SET named = CASE WHEN length(topic || '.' || role) <= 200 THEN topic
    ELSE left(topic, 170) || '-' || left(md5(topic), 16) END || '.' || role;
INSERT INTO schemas (name, language, created_at)
SELECT named, 'avro', min(created_at) FROM schema_versions GROUP BY named;
UPDATE schema_versions v SET schema_id = s.id FROM schemas s WHERE s.name = v.named;

CREATE TABLE topic_schemas (
    topic_id bigint NOT NULL REFERENCES topics ON DELETE CASCADE,
    role text NOT NULL CHECK (role IN ('key', 'value')),
    schema_id bigint NOT NULL REFERENCES schemas,
    -- a record that does not fit is refused
    required boolean NOT NULL DEFAULT false,
    PRIMARY KEY (topic_id, role)
);
CREATE INDEX topic_schemas_by_schema ON topic_schemas (schema_id);
INSERT INTO topic_schemas (topic_id, role, schema_id)
SELECT DISTINCT t.id, v.role, v.schema_id FROM schema_versions v JOIN topics t ON t.name = v.topic;

DROP INDEX schemas_by_text;
ALTER TABLE schema_versions
    ALTER COLUMN schema_id SET NOT NULL,
    DROP COLUMN named,
    DROP COLUMN topic,
    DROP COLUMN role,
    ADD UNIQUE (schema_id, version);
CREATE UNIQUE INDEX schema_versions_by_text ON schema_versions (schema_id, md5(text));

-- what is searched by: the fields a schema has or had
CREATE TABLE schema_fields (
    schema_id bigint NOT NULL REFERENCES schemas ON DELETE CASCADE,
    path text NOT NULL,
    last_version int NOT NULL,
    PRIMARY KEY (schema_id, path)
);

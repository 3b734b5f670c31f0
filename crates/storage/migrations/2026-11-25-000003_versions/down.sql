DROP TABLE connector_versions;

DROP TABLE reloads;
ALTER TABLE connections DROP COLUMN tls, DROP COLUMN ca, DROP COLUMN log_username, DROP COLUMN sealed_log_password, DROP COLUMN settings;
ALTER TABLE connectors DROP COLUMN preflight;

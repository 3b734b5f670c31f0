DROP TABLE quarantine;
DROP TABLE connector_lines;
DROP TABLE connector_history;
ALTER TABLE lanes DROP COLUMN runner, DROP COLUMN waits, DROP COLUMN asked, DROP COLUMN mending;
DROP SEQUENCE lane_epochs;
DROP TABLE runners;

ALTER TABLE connectors DROP leaves_remains;
ALTER TABLE quarantine DROP operation_id;
DROP TABLE operations;

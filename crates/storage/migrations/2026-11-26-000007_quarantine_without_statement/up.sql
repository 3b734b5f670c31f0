-- The statement that failed: what was found says it.
ALTER TABLE quarantine DROP COLUMN statement;

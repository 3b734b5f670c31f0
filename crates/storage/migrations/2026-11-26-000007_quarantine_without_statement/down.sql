ALTER TABLE quarantine ADD COLUMN statement text;

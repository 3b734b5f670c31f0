ALTER TABLE connectors DROP COLUMN passed_over;

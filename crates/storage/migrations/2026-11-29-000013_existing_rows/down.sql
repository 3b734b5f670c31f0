ALTER TABLE reloads DROP COLUMN existing_rows;

-- What becomes of the rows that are in the topics already when tables are loaded again.
ALTER TABLE reloads ADD COLUMN existing_rows text NOT NULL DEFAULT 'keep';

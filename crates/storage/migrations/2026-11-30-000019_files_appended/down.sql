ALTER TABLE cold_files DROP COLUMN appended_us;

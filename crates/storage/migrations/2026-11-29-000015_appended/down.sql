ALTER TABLE blocks DROP COLUMN appended_us;

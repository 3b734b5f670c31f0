DROP TRIGGER connections_as_before ON connections;
DROP FUNCTION connections_as_before();
ALTER TABLE connections DROP COLUMN given, DROP COLUMN sealed;

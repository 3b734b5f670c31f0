-- Who watches is told which objects changed, when the change commits: of connectors which one, of other tables only which table.
-- What an append writes (partitions, positions of lanes) tells nothing: transactions that tell commit one after the other.
CREATE FUNCTION tell_connector() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
    which uuid;
BEGIN
    IF TG_TABLE_NAME = 'lanes' THEN
        which := coalesce(NEW.connector_id, OLD.connector_id);
    ELSE
        which := coalesce(NEW.id, OLD.id);
    END IF;
    PERFORM pg_notify('gonvel_changes', 'connectors ' || which);
    RETURN NULL;
END $$;

CREATE FUNCTION tell_table() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM pg_notify('gonvel_changes', TG_TABLE_NAME);
    RETURN NULL;
END $$;

CREATE TRIGGER tell AFTER INSERT OR UPDATE OR DELETE ON connectors FOR EACH ROW EXECUTE FUNCTION tell_connector();
CREATE TRIGGER tell AFTER INSERT OR DELETE ON lanes FOR EACH ROW EXECUTE FUNCTION tell_connector();
CREATE TRIGGER tell_status AFTER UPDATE OF status, runner, waits ON lanes FOR EACH ROW
    WHEN ((OLD.status, OLD.runner, OLD.waits) IS DISTINCT FROM (NEW.status, NEW.runner, NEW.waits))
    EXECUTE FUNCTION tell_connector();
CREATE TRIGGER tell AFTER INSERT OR UPDATE OR DELETE ON connector_versions FOR EACH ROW EXECUTE FUNCTION tell_table();
CREATE TRIGGER tell AFTER INSERT OR UPDATE OR DELETE ON connections FOR EACH ROW EXECUTE FUNCTION tell_table();
CREATE TRIGGER tell AFTER INSERT OR UPDATE OR DELETE ON topics FOR EACH ROW EXECUTE FUNCTION tell_table();
CREATE TRIGGER tell AFTER INSERT OR UPDATE OR DELETE ON topic_schemas FOR EACH ROW EXECUTE FUNCTION tell_table();
CREATE TRIGGER tell AFTER INSERT OR UPDATE OR DELETE ON schemas FOR EACH ROW EXECUTE FUNCTION tell_table();
CREATE TRIGGER tell AFTER INSERT OR UPDATE OR DELETE ON schema_versions FOR EACH ROW EXECUTE FUNCTION tell_table();
CREATE TRIGGER tell AFTER INSERT OR UPDATE OR DELETE ON functions FOR EACH ROW EXECUTE FUNCTION tell_table();
CREATE TRIGGER tell AFTER INSERT OR UPDATE OR DELETE ON drafts FOR EACH ROW EXECUTE FUNCTION tell_table();
CREATE TRIGGER tell AFTER INSERT OR UPDATE OR DELETE ON readers FOR EACH ROW EXECUTE FUNCTION tell_table();
CREATE TRIGGER tell AFTER INSERT OR DELETE ON reader_members FOR EACH ROW EXECUTE FUNCTION tell_table();
-- a runner says each second that it is alive, by an insert that finds it there
CREATE TRIGGER tell AFTER INSERT OR DELETE ON runners FOR EACH ROW EXECUTE FUNCTION tell_table();
CREATE TRIGGER tell_draining AFTER UPDATE ON runners FOR EACH ROW WHEN (OLD.draining IS DISTINCT FROM NEW.draining)
    EXECUTE FUNCTION tell_table();

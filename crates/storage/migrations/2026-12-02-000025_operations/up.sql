-- Work that takes longer than a request: what is done, how far it is, and how it ended. A server does it, and says all the while that it
-- does; or a connector's lanes do, and what they say tells how far they are. connector_id outlives its connector.
CREATE TABLE operations (
    id uuid PRIMARY KEY,
    kind text NOT NULL CHECK (kind IN ('apply', 'delete', 'import', 'load_again', 'retry')),
    says text NOT NULL,
    who text NOT NULL DEFAULT '',
    subject jsonb,
    connector_id uuid,
    asked jsonb NOT NULL DEFAULT 'null',
    state text NOT NULL DEFAULT 'running' CHECK (state IN ('running', 'done', 'failed', 'cancelled')),
    cancelling boolean NOT NULL DEFAULT false,
    done bigint NOT NULL DEFAULT 0,
    total bigint,
    waits text,
    result jsonb NOT NULL DEFAULT '{}',
    problem jsonb,
    began_at timestamptz NOT NULL DEFAULT now(),
    moved_at timestamptz NOT NULL DEFAULT now(),
    ended_at timestamptz
);
CREATE INDEX operations_running ON operations (id) WHERE state = 'running';
CREATE INDEX operations_ended ON operations (ended_at);

CREATE TRIGGER tell AFTER INSERT OR DELETE ON operations FOR EACH ROW EXECUTE FUNCTION tell_table();
-- that it is being done still is no change
CREATE TRIGGER tell_moved AFTER UPDATE ON operations FOR EACH ROW
    WHEN ((OLD.state, OLD.cancelling, OLD.done, OLD.total, OLD.waits, OLD.result)
        IS DISTINCT FROM (NEW.state, NEW.cancelling, NEW.done, NEW.total, NEW.waits, NEW.result))
    EXECUTE FUNCTION tell_table();

-- by which operation a record was asked for last
ALTER TABLE quarantine ADD operation_id uuid;
CREATE INDEX quarantine_operation ON quarantine (operation_id, state) WHERE operation_id IS NOT NULL;

-- a connector whose system is gone for good leaves there what it left
ALTER TABLE connectors ADD leaves_remains boolean NOT NULL DEFAULT false;

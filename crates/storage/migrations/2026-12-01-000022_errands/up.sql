-- What servers ask of systems that runners of a place reach: sealed, and forgotten once it is answered. Nothing is lost with them, so no
-- log is kept of them.
CREATE UNLOGGED TABLE errands (
    id uuid PRIMARY KEY,
    only_where jsonb NOT NULL,
    asked text NOT NULL,
    asked_at timestamptz NOT NULL DEFAULT clock_timestamp(),
    taken_by text,
    outcome text
);

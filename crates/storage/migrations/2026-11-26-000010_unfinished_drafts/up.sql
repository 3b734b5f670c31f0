-- Connectors that are not complete enough to be one: what their builder holds so far, which is the builder's own affair.
CREATE TABLE drafts (
    id uuid PRIMARY KEY,
    name text NOT NULL,
    kind text NOT NULL,
    lacks text NOT NULL,
    work json NOT NULL,
    revision int NOT NULL DEFAULT 1,
    saved_by text NOT NULL,
    saved_at timestamptz NOT NULL DEFAULT now()
);

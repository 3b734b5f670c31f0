-- Functions of one's own: each version stays; the newest one that is not gone is in force.
CREATE TABLE functions (
    name text NOT NULL,
    version int NOT NULL,
    definition json,
    saved_by text NOT NULL,
    saved_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (name, version)
);

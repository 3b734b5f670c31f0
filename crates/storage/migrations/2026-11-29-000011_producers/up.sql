-- Applications that append to topics, by the names they give; '' is those that give none. Records of the current minute and the one
-- before make a rate that several servers add to.
CREATE TABLE producers (
    topic_id bigint NOT NULL REFERENCES topics ON DELETE CASCADE,
    name text NOT NULL,
    first_at timestamptz NOT NULL DEFAULT now(),
    last_append timestamptz,
    records bigint NOT NULL DEFAULT 0,
    minute bigint NOT NULL,
    in_minute bigint NOT NULL DEFAULT 0,
    in_minute_before bigint NOT NULL DEFAULT 0,
    refused bigint NOT NULL DEFAULT 0,
    last_refused timestamptz,
    why text NOT NULL DEFAULT '',
    PRIMARY KEY (topic_id, name)
);

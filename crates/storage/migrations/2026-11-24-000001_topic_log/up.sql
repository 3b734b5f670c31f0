CREATE TABLE topics (
    id bigserial PRIMARY KEY,
    name text NOT NULL UNIQUE,
    partitions int NOT NULL CHECK (partitions BETWEEN 1 AND 1000),
    created_at timestamptz NOT NULL DEFAULT now()
);

-- next_offset is updated by every append: room on the page keeps the new row versions beside the old ones
CREATE TABLE topic_partitions (
    topic_id bigint NOT NULL REFERENCES topics ON DELETE CASCADE,
    partition int NOT NULL,
    first_offset bigint NOT NULL DEFAULT 0,
    next_offset bigint NOT NULL DEFAULT 0,
    bytes bigint NOT NULL DEFAULT 0,
    PRIMARY KEY (topic_id, partition)
) WITH (fillfactor = 50);

-- One row per block. The body is compressed already, so PostgreSQL must not try again.
CREATE TABLE blocks (
    topic_id bigint NOT NULL,
    partition int NOT NULL,
    first_offset bigint NOT NULL,
    records int NOT NULL CHECK (records > 0),
    earliest_us bigint NOT NULL,
    latest_us bigint NOT NULL,
    unpacked int NOT NULL,
    body bytea NOT NULL,
    PRIMARY KEY (topic_id, partition, first_offset)
);
ALTER TABLE blocks ALTER COLUMN body SET STORAGE EXTERNAL;
CREATE INDEX blocks_by_time ON blocks (topic_id, partition, latest_us);

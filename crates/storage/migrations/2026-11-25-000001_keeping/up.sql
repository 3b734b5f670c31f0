ALTER TABLE topics
    ADD COLUMN keep text NOT NULL DEFAULT 'all' CHECK (keep IN ('all', 'latest')),
    ADD COLUMN forget_after_ms bigint CHECK (forget_after_ms > 0),
    ADD COLUMN most_bytes bigint CHECK (most_bytes > 0),
    ADD COLUMN deletes_kept_ms bigint NOT NULL DEFAULT 86400000 CHECK (deletes_kept_ms > 0),
    ADD COLUMN hot_span_ms bigint CHECK (hot_span_ms > 0),
    ADD COLUMN revision int NOT NULL DEFAULT 1;

-- reach_us is the latest timestamp of the partition so far: it only grows with the offset, so that a time is found by one
-- step down an index whatever order the records' times have
ALTER TABLE blocks ADD COLUMN span int, ADD COLUMN reach_us bigint, ADD COLUMN places bytea;
UPDATE blocks b SET span = b.records, reach_us = r.reach_us
FROM (SELECT topic_id, partition, first_offset,
             max(latest_us) OVER (PARTITION BY topic_id, partition ORDER BY first_offset) AS reach_us FROM blocks) r
WHERE (b.topic_id, b.partition, b.first_offset) = (r.topic_id, r.partition, r.first_offset);
ALTER TABLE blocks ALTER COLUMN span SET NOT NULL, ALTER COLUMN reach_us SET NOT NULL;
DROP INDEX blocks_by_time;
CREATE INDEX blocks_by_reach ON blocks (topic_id, partition, reach_us, first_offset);

-- small_blocks counts what waits to be merged; passed_over counts offsets from first_offset on whose records were removed;
-- latest_to is how far "latest per key" was kept, and latest_at when;
-- deletes_until_us is when the first of the deletes it left may go
ALTER TABLE topic_partitions
    ADD COLUMN reach_us bigint NOT NULL DEFAULT -9223372036854775808,
    ADD COLUMN small_blocks int NOT NULL DEFAULT 0,
    ADD COLUMN passed_over bigint NOT NULL DEFAULT 0,
    ADD COLUMN latest_to bigint NOT NULL DEFAULT 0,
    ADD COLUMN latest_at timestamptz NOT NULL DEFAULT now(),
    ADD COLUMN deletes_until_us bigint;
UPDATE topic_partitions p SET small_blocks = b.small, reach_us = b.reach_us
FROM (SELECT topic_id, partition, max(reach_us) AS reach_us, count(*) FILTER (WHERE records < 2500 AND unpacked < 524288)::int AS small
      FROM blocks GROUP BY 1, 2) b
WHERE (p.topic_id, p.partition) = (b.topic_id, b.partition);

-- Blocks that moved to object storage, many to a file. A row is there before its file and after it: 'writing' and 'dropping'
-- are what a crash may leave, and the keeper removes both the file and the row.
CREATE TABLE cold_files (
    topic_id bigint NOT NULL,
    partition int NOT NULL,
    first_offset bigint NOT NULL,
    end_offset bigint NOT NULL,
    state text NOT NULL CHECK (state IN ('writing', 'there', 'dropping')),
    path text NOT NULL UNIQUE,
    bytes bigint NOT NULL,
    earliest_us bigint NOT NULL,
    latest_us bigint NOT NULL,
    reach_us bigint NOT NULL,
    -- for each block: first offset, span, records, latest_us, reach_us, unpacked, place in the file, length, places
    blocks jsonb NOT NULL,
    moved_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (topic_id, partition, first_offset, path)
);
CREATE INDEX cold_files_by_state ON cold_files (state) WHERE state <> 'there';

-- Deleted topics whose blocks and files are still to be removed.
CREATE TABLE deleted_topics (
    topic_id bigint PRIMARY KEY,
    deleted_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE producer_sessions (
    session uuid PRIMARY KEY,
    next_sequence bigint NOT NULL DEFAULT 0,
    last_at timestamptz NOT NULL DEFAULT now()
) WITH (fillfactor = 50);
CREATE TABLE session_answers (
    session uuid NOT NULL REFERENCES producer_sessions ON DELETE CASCADE,
    sequence bigint NOT NULL,
    landed jsonb NOT NULL,
    PRIMARY KEY (session, sequence)
);
CREATE TABLE idempotency_keys (
    key text PRIMARY KEY,
    digest bytea NOT NULL,
    landed jsonb NOT NULL,
    at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX idempotency_keys_by_age ON idempotency_keys (at);

CREATE TABLE readers (
    id bigserial PRIMARY KEY,
    name text NOT NULL UNIQUE,
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE reader_members (
    reader_id bigint NOT NULL REFERENCES readers ON DELETE CASCADE,
    member uuid NOT NULL,
    label text NOT NULL,
    joined_at timestamptz NOT NULL DEFAULT now(),
    until timestamptz NOT NULL,
    PRIMARY KEY (reader_id, member)
);
CREATE TABLE reader_positions (
    reader_id bigint NOT NULL REFERENCES readers ON DELETE CASCADE,
    topic_id bigint NOT NULL REFERENCES topics ON DELETE CASCADE,
    partition int NOT NULL,
    next_offset bigint NOT NULL,
    committed_at timestamptz,
    holder uuid,
    PRIMARY KEY (reader_id, topic_id, partition)
) WITH (fillfactor = 50);
CREATE INDEX reader_positions_by_topic ON reader_positions (topic_id);

-- A topic's size now and then, for the picture over time.
CREATE TABLE topic_history (
    topic_id bigint NOT NULL REFERENCES topics ON DELETE CASCADE,
    at timestamptz NOT NULL,
    appended bigint NOT NULL,
    bytes bigint NOT NULL,
    PRIMARY KEY (topic_id, at)
);

-- What the keeper did and what waits for it, as the one that does the work last said.
CREATE TABLE keeper (
    single boolean PRIMARY KEY DEFAULT true CHECK (single),
    said jsonb NOT NULL,
    at timestamptz NOT NULL DEFAULT now()
);

-- Appends blocks in one round trip: locks their partitions in order, takes offsets, inserts, moves the ends. Gives the next
-- offsets from before, in the order of the partitions given; null, and nothing is done, if one of them is not there.
CREATE FUNCTION append_blocks(
    topics bigint[], partitions int[],
    places int[], records int[], earliest bigint[], latest bigint[], sizes int[], bodies bytea[]
) RETURNS bigint[] LANGUAGE plpgsql AS $$
DECLARE
    nexts bigint[];
    reaches bigint[];
BEGIN
    SELECT array_agg(l.next_offset), array_agg(l.reach_us) INTO nexts, reaches FROM (
        SELECT p.next_offset, p.reach_us FROM topic_partitions p
        JOIN unnest(topics, partitions) AS a(topic_id, partition) USING (topic_id, partition)
        ORDER BY p.topic_id, p.partition FOR UPDATE OF p) l;
    IF coalesce(cardinality(nexts), 0) <> cardinality(topics) THEN
        RETURN NULL;
    END IF;
    INSERT INTO blocks (topic_id, partition, first_offset, records, span, earliest_us, latest_us, unpacked, reach_us, body)
    SELECT topics[b.place], partitions[b.place], nexts[b.place] + coalesce(sum(b.n) OVER before, 0), b.n, b.n, b.e, b.l, b.u,
        greatest(reaches[b.place], max(b.l) OVER upto), b.body
    FROM unnest(places, records, earliest, latest, sizes, bodies) WITH ORDINALITY AS b(place, n, e, l, u, body, number)
    WINDOW before AS (PARTITION BY b.place ORDER BY b.number ROWS BETWEEN UNBOUNDED PRECEDING AND 1 PRECEDING),
        upto AS (PARTITION BY b.place ORDER BY b.number ROWS UNBOUNDED PRECEDING);
    UPDATE topic_partitions p SET next_offset = p.next_offset + a.records, bytes = p.bytes + a.bytes,
        reach_us = greatest(p.reach_us, a.latest), small_blocks = p.small_blocks + a.small
    FROM (
        SELECT b.place, sum(b.n) AS records, sum(length(b.body)) AS bytes, max(b.l) AS latest,
            (count(*) FILTER (WHERE b.n < 2500 AND b.u < 524288))::int AS small
        FROM unnest(places, records, latest, sizes, bodies) AS b(place, n, l, u, body) GROUP BY b.place) a
    WHERE p.topic_id = topics[a.place] AND p.partition = partitions[a.place];
    RETURN nexts;
END $$;

DROP FUNCTION append_for_lanes(bigint[], int[], bigint[], bigint[], int[], bigint[], int[], bigint[], int[], bigint[], bigint[], bigint[], int[], bytea[],
    uuid[], int[], bigint[], jsonb[]);
DROP FUNCTION append_blocks(bigint[], int[], bigint[], bigint[], int[], bigint[], int[], bigint[], int[], bigint[], bigint[], bigint[], int[], bytea[]);
ALTER TABLE topic_partitions DROP COLUMN reached_us;

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
-- blocks and the progress of the lanes that made them, by one statement: a round trip where there were five
CREATE FUNCTION append_for_lanes(
    topics bigint[], partitions int[],
    places int[], records int[], earliest bigint[], latest bigint[], sizes int[], bodies bytea[],
    connectors uuid[], numbers int[], epochs bigint[], positions jsonb[]
) RETURNS bigint[] LANGUAGE plpgsql AS $$
DECLARE
    nexts bigint[] := '{}';
    moved bigint;
BEGIN
    IF cardinality(topics) > 0 THEN
        nexts := append_blocks(topics, partitions, places, records, earliest, latest, sizes, bodies);
        IF nexts IS NULL THEN
            RETURN NULL;
        END IF;
    END IF;
    UPDATE lanes l SET position = a.position
    FROM unnest(connectors, numbers, epochs, positions) AS a(connector, number, epoch, position)
    WHERE l.connector_id = a.connector AND l.lane = a.number AND l.epoch = a.epoch;
    GET DIAGNOSTICS moved = ROW_COUNT;
    -- nothing of it stays: who may append and who may not is then found out one by one
    IF moved <> cardinality(connectors) THEN
        RAISE EXCEPTION 'a lane is held by another';
    END IF;
    RETURN nexts;
END $$;

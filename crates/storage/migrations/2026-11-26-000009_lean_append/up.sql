-- What an append needs to know is reckoned by who appends: three statements of fixed plans are left, and no window or aggregate.
DROP FUNCTION append_for_lanes(bigint[], int[], int[], int[], bigint[], bigint[], int[], bytea[], uuid[], int[], bigint[], jsonb[]);
DROP FUNCTION append_blocks(bigint[], int[], int[], int[], bigint[], bigint[], int[], bytea[]);

-- the latest time of a partition's records before its last append: an update tells only what is new
ALTER TABLE topic_partitions ADD COLUMN reached_us bigint NOT NULL DEFAULT 0;

-- Appends blocks in one round trip: moves the ends of their partitions in order, which locks them to the commit, and inserts.
-- Gives the next offsets from before, in the order of the partitions given; fails if one of them is not there.
--
-- Of each partition: its records, bytes, small blocks and latest time in this append. Of each block: which of the partitions
-- it belongs to, how many records of that partition come before it, the latest time up to it.
CREATE FUNCTION append_blocks(
    topics bigint[], partitions int[], counts bigint[], grown bigint[], smalls int[], latests bigint[],
    places int[], befores bigint[], records int[], earliest bigint[], latest bigint[], uptos bigint[], sizes int[], bodies bytea[]
) RETURNS bigint[] LANGUAGE plpgsql AS $$
DECLARE
    nexts bigint[] := '{}';
    reaches bigint[] := '{}';
    next bigint;
    reach bigint;
BEGIN
    FOR i IN 1..cardinality(topics) LOOP
        UPDATE topic_partitions p SET next_offset = p.next_offset + counts[i], bytes = p.bytes + grown[i],
            reached_us = p.reach_us, reach_us = greatest(p.reach_us, latests[i]), small_blocks = p.small_blocks + smalls[i]
        WHERE p.topic_id = topics[i] AND p.partition = partitions[i]
        RETURNING p.next_offset - counts[i], p.reached_us INTO next, reach;
        IF NOT FOUND THEN
            RAISE EXCEPTION 'a partition is not there';
        END IF;
        nexts[i] := next;
        reaches[i] := reach;
    END LOOP;
    INSERT INTO blocks (topic_id, partition, first_offset, records, span, earliest_us, latest_us, unpacked, reach_us, body)
    SELECT topics[b.place], partitions[b.place], nexts[b.place] + b.before, b.n, b.n, b.e, b.l, b.u,
        greatest(reaches[b.place], b.upto), b.body
    FROM unnest(places, befores, records, earliest, latest, uptos, sizes, bodies) AS b(place, before, n, e, l, upto, u, body);
    RETURN nexts;
END $$;

-- blocks and the progress of the lanes that made them
CREATE FUNCTION append_for_lanes(
    topics bigint[], partitions int[], counts bigint[], grown bigint[], smalls int[], latests bigint[],
    places int[], befores bigint[], records int[], earliest bigint[], latest bigint[], uptos bigint[], sizes int[], bodies bytea[],
    connectors uuid[], numbers int[], epochs bigint[], positions jsonb[]
) RETURNS bigint[] LANGUAGE plpgsql AS $$
DECLARE
    nexts bigint[] := '{}';
    moved bigint;
BEGIN
    IF cardinality(topics) > 0 THEN
        nexts := append_blocks(topics, partitions, counts, grown, smalls, latests, places, befores, records, earliest, latest,
            uptos, sizes, bodies);
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

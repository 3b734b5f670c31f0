CREATE OR REPLACE FUNCTION append_for_lanes(
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

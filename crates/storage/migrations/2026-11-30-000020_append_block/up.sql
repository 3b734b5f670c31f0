-- One block into one partition, as most appends are: values instead of lists of one take half the time. Otherwise as append_blocks.
CREATE FUNCTION append_block(
    topic bigint, part int, count int, grown bigint, small int, earliest bigint, latest bigint, size int, body bytea
) RETURNS bigint LANGUAGE plpgsql AS $$
DECLARE
    begins bigint;
    reach bigint;
BEGIN
    UPDATE topic_partitions p SET next_offset = p.next_offset + count, bytes = p.bytes + grown,
        reached_us = p.reach_us, reach_us = greatest(p.reach_us, latest), small_blocks = p.small_blocks + small
    WHERE p.topic_id = topic AND p.partition = part
    RETURNING p.next_offset - count, p.reached_us INTO begins, reach;
    IF NOT FOUND THEN
        RAISE EXCEPTION 'a partition is not there';
    END IF;
    INSERT INTO blocks (topic_id, partition, first_offset, records, span, earliest_us, latest_us, unpacked, reach_us, body)
    VALUES (topic, part, begins, count, count, earliest, latest, size, greatest(reach, latest), body);
    RETURN begins;
END $$;

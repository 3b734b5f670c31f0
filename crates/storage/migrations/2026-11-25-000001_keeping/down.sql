DROP FUNCTION append_blocks;
DROP TABLE keeper, topic_history, reader_positions, reader_members, readers, idempotency_keys, session_answers,
    producer_sessions, deleted_topics, cold_files;
ALTER TABLE topic_partitions DROP COLUMN reach_us, DROP COLUMN small_blocks, DROP COLUMN passed_over, DROP COLUMN latest_to, DROP COLUMN latest_at,
    DROP COLUMN deletes_until_us;
DROP INDEX blocks_by_reach;
CREATE INDEX blocks_by_time ON blocks (topic_id, partition, latest_us);
ALTER TABLE blocks DROP COLUMN span, DROP COLUMN reach_us, DROP COLUMN places;
ALTER TABLE topics DROP COLUMN keep, DROP COLUMN forget_after_ms, DROP COLUMN most_bytes, DROP COLUMN deletes_kept_ms,
    DROP COLUMN hot_span_ms, DROP COLUMN revision;

-- When a block was appended, in microseconds since 1970-01-01 UTC: deletes are kept for a while from then on, and not from when they
-- happened in a source that was paused or behind. Of blocks that are there it is now.
ALTER TABLE blocks ADD COLUMN appended_us bigint NOT NULL DEFAULT (extract(epoch FROM now()) * 1000000)::bigint;

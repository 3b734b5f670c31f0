-- When the last block of a file was appended, in microseconds since 1970-01-01 UTC: records are forgotten by age from then on, and not
-- from when they happened in a source that was paused or behind. Of files whose blocks do not say it, it is now.
ALTER TABLE cold_files ADD COLUMN appended_us bigint NOT NULL DEFAULT (extract(epoch FROM now()) * 1000000)::bigint;
UPDATE cold_files SET appended_us = coalesce(
    (SELECT max((b ->> 'appended_us')::bigint) FROM jsonb_array_elements(blocks) b), appended_us);

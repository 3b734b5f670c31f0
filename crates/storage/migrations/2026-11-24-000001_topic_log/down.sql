DROP TABLE blocks; DROP TABLE topic_partitions; DROP TABLE topics;

DROP FUNCTION append_block(bigint, int, int, bigint, int, bigint, bigint, int, bytea);

DROP FUNCTION append_for_lanes(bigint[], int[], int[], int[], bigint[], bigint[], int[], bytea[], uuid[], int[], bigint[], jsonb[]);

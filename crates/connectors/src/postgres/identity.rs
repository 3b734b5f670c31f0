//! Whether a server's log tells the rows of a table apart: the replica identity of every part of it that is written to.
//!
//! A table is published as a whole, and the server looks at the identity of the partition that a row is in. Where it has none, the
//! server refuses updates and deletes in the source itself as soon as the table is published; where it lacks a column of the key,
//! a deleted row cannot be named.

/// The columns of index `i` that are its key: those that it only includes are not.
macro_rules! key_columns {
    () => {
        "(i.indkey::int2[])[0:i.indnkeyatts - 1]"
    };
}
pub(super) use key_columns;

/// The primary key of table `c`: its `columns`, as a JSON array, and whether one of them is `generated`; nulls without one.
pub(super) const PRIMARY_KEY: &str = concat!(
    "(SELECT jsonb_agg(a.attname) AS columns, bool_or(a.attgenerated <> '') AS generated
      FROM pg_index i JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = ANY (",
    key_columns!(),
    ") WHERE i.indrelid = c.oid AND i.indisprimary)"
);

/// A relation `part` of the parts of table `c` that rows are in: `name`; `unlogged`, why its changes are not in the log; `untold`, why its
/// rows are not told apart there; `mend`, what gives it an identity. `key` is an expression of the key's columns, as a JSON array.
pub(super) fn parts(key: &str) -> String {
    format!(
        concat!(
            "(SELECT format('%I.%I', pn.nspname, p.relname) AS name,
                CASE WHEN p.relkind = 'f' THEN 'is a foreign table' WHEN p.relpersistence = 'u' THEN 'is an unlogged table' END
                  AS unlogged,
                CASE WHEN c.relreplident = 'f' AND p.relreplident <> 'f' THEN 'has not the replica identity full of its table'
                     WHEN p.relreplident = 'f' OR full_key.there THEN NULL
                     WHEN p.relreplident = 'n' THEN 'has replica identity nothing'
                     WHEN identity.there THEN 'lacks a column of the key in its replica identity'
                     WHEN p.relreplident = 'i' THEN 'has an index as its replica identity that is gone'
                     WHEN late.there THEN 'has a deferrable primary key, which is no replica identity'
                     ELSE 'has no primary key, and so no replica identity' END AS untold,
                CASE WHEN c.relreplident <> 'f' AND primary_key.there THEN 'DEFAULT' ELSE 'FULL' END AS mend
             FROM (SELECT c.oid AS id WHERE c.relkind <> 'p'
                   UNION ALL SELECT t.relid FROM pg_partition_tree(c.oid) t WHERE c.relkind = 'p' AND t.isleaf) member
             JOIN pg_class p ON p.oid = member.id JOIN pg_namespace pn ON pn.oid = p.relnamespace
             CROSS JOIN LATERAL (SELECT coalesce(bool_or(i.indisprimary AND NOT i.indimmediate), false) AS there
                FROM pg_index i WHERE i.indrelid = p.oid) late
             CROSS JOIN LATERAL (SELECT EXISTS (SELECT 1 FROM pg_index i WHERE i.indrelid = p.oid AND i.indisvalid AND i.indimmediate
                AND CASE p.relreplident WHEN 'd' THEN i.indisprimary WHEN 'i' THEN i.indisreplident ELSE false END) AS there) identity
             CROSS JOIN LATERAL (SELECT EXISTS (SELECT 1 FROM pg_index i WHERE i.indrelid = p.oid AND i.indisvalid AND i.indimmediate
                AND CASE p.relreplident WHEN 'd' THEN i.indisprimary WHEN 'i' THEN i.indisreplident ELSE false END
                AND NOT EXISTS (SELECT 1 FROM jsonb_array_elements_text({key}) k JOIN pg_attribute a ON a.attrelid = p.oid AND a.attname = k
                  WHERE a.attnum <> ALL (",
            key_columns!(),
            "))) AS there) full_key
             CROSS JOIN LATERAL (SELECT EXISTS (SELECT 1 FROM pg_index i WHERE i.indrelid = p.oid AND i.indisprimary AND i.indisvalid
                AND i.indimmediate AND NOT EXISTS (SELECT 1 FROM jsonb_array_elements_text({key}) k JOIN pg_attribute a
                  ON a.attrelid = p.oid AND a.attname = k WHERE a.attnum <> ALL (",
            key_columns!(),
            "))) AS there) primary_key) part"
        ),
        key = key
    )
}

/// An expression that says why table `c` must not be published and captured; null if it may. `key` is an expression of the key that was
/// chosen for it, as a JSON array, which is empty for the primary key.
pub(super) fn hindrance(key: &str) -> String {
    format!(
        "(SELECT CASE
            WHEN NOT pg_has_role(c.relowner, 'USAGE') THEN 'it belongs to another user'
            WHEN row_security_active(c.oid) THEN 'row security hides rows of it'
            WHEN {key} = '[]' AND pk.columns IS NULL THEN 'it has no primary key'
            WHEN {key} = '[]' AND pk.generated THEN 'its primary key has a generated column, which the log does not hold'
            ELSE (SELECT string_agg(part.name || ' ' || coalesce(part.unlogged, part.untold), '; ' ORDER BY part.name)
                  FROM {parts} WHERE part.unlogged IS NOT NULL OR part.untold IS NOT NULL) END
          FROM {PRIMARY_KEY} pk)",
        parts = parts(&format!("coalesce(nullif({key}, '[]'), pk.columns)")),
    )
}

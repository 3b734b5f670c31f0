//! What a database says of its tables: columns, keys, types.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use gonvel_core::column::ColumnType;
use gonvel_core::connector::CapturedTable;
use gonvel_core::data_type::DataType;
use gonvel_core::ports::systems::{ColumnsEver, ConnectorError, SampledColumn, TableSummary};
use gonvel_core::table::{Column, TableSchema};
use tokio_postgres::Client;

use super::client::explain;
use super::identity::key_columns;
use super::pgoutput::{Relation, RelationColumn};
use super::types::of_name;

/// All tables that are not the system's or Gonvel's own; a partitioned table stands for its partitions.
///
/// # Errors
/// [`ConnectorError`].
pub async fn list(client: &Client) -> Result<Vec<TableSummary>, ConnectorError> {
    let rows = client
        .query(
            concat!("SELECT n.nspname, c.relname, CASE WHEN c.relkind = 'p' THEN
                      (SELECT sum(greatest(l.reltuples, 0))::bigint FROM pg_partition_tree(c.oid) t JOIN pg_class l ON l.oid = t.relid WHERE t.isleaf)
                    WHEN c.reltuples < 0 THEN NULL ELSE c.reltuples::bigint END,
                    coalesce((SELECT array_agg(a.attname::text ORDER BY k.ord) FROM pg_index i
                      CROSS JOIN LATERAL unnest(", key_columns!(), ") WITH ORDINALITY AS k(attnum, ord)
                      JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = k.attnum
                      WHERE i.indrelid = c.oid AND i.indisprimary), '{}'),
                    (SELECT count(*) FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped)
             FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
             WHERE c.relkind IN ('r', 'p') AND c.relpersistence = 'p' AND NOT c.relispartition
               AND n.nspname NOT IN ('pg_catalog', 'information_schema', 'gonvel') AND n.nspname NOT LIKE 'pg\\_%'
             ORDER BY 1, 2"),
            &[],
        )
        .await
        .map_err(|e| explain(&e, "listing tables"))?;
    let summary = |row: tokio_postgres::Row| TableSummary {
        schema: row.get(0),
        table: row.get(1),
        rows: row.get(2),
        key: row.get(3),
        columns: row.get(4),
    };
    Ok(rows.into_iter().map(summary).collect())
}

/// The name of type `t` (an array of `e`) with a modifier, as another database has it as well: domains as what they stand on,
/// types that were made in this database (from the first free object id, 16384, on) as text.
macro_rules! portable_type {
    ($modifier:literal) => {
        concat!(
            "CASE WHEN t.typtype = 'd' AND t.typbasetype < 16384 THEN format_type(t.typbasetype, t.typtypmod)
               WHEN e.typtype = 'd' AND e.typbasetype < 16384 THEN format_type(e.typbasetype, e.typtypmod) || '[]'
               WHEN e.oid >= 16384 THEN 'text[]' WHEN t.oid >= 16384 THEN 'text'
               ELSE format_type(t.oid, ",
            $modifier,
            ") END"
        )
    };
}

const COLUMNS: &str = concat!(
    "SELECT a.attname::text, a.atttypid, a.atttypmod,
        coalesce(a.attnum = ANY (",
    key_columns!(),
    "), false),
        ",
    portable_type!("a.atttypmod"),
    " FROM pg_class c
     JOIN pg_namespace n ON n.oid = c.relnamespace
     JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = ''
     JOIN pg_type t ON t.oid = a.atttypid
     LEFT JOIN pg_type e ON e.oid = t.typelem AND t.typcategory = 'A'
     LEFT JOIN pg_index i ON i.indrelid = c.oid AND i.indisprimary AND NOT EXISTS (
       SELECT 1 FROM pg_attribute g WHERE g.attrelid = c.oid AND g.attgenerated <> '' AND g.attnum = ANY (",
    key_columns!(),
    "))
     WHERE n.nspname = $1 AND c.relname = $2 ORDER BY a.attnum"
);

/// A table's present shape, as far as it is wanted.
///
/// # Errors
/// [`ConnectorError::Settings`] if the table is not there or has no key.
pub async fn describe(client: &Client, system: &str, wanted: &CapturedTable) -> Result<TableSchema, ConnectorError> {
    let (schema, table) = (&wanted.schema, &wanted.table);
    let rows = client.query(COLUMNS, &[schema, table]).await.map_err(|e| explain(&e, "describing a table"))?;
    if rows.is_empty() {
        return Err(ConnectorError::settings(
            Some("tables"),
            format!("there is no table {schema}.{table}"),
            "it was dropped or renamed: take it out of the connector, or bring it back",
        ));
    }
    let columns = rows.iter().map(|row| Column {
        name: row.get(0),
        ty: column_type(row.get(1), row.get(2)),
        source_type: of_name(row.get(4)),
        key: row.get(3),
    });
    shape(system, wanted, columns.collect())
}

/// Whether a table is there.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn is_there(client: &Client, table: &CapturedTable) -> Result<bool, ConnectorError> {
    let name = super::names::qualified(&table.schema, &table.table);
    let row = client.query_one("SELECT to_regclass($1) IS NOT NULL", &[&name]).await;
    Ok(row.map_err(|e| explain(&e, "looking for a table"))?.get(0))
}

/// Columns of a table that the source may have filled in its rows when they were added: those with a default, or that may not be null.
/// Of a table that is gone there are none.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn filled(client: &Client, table: &TableSchema) -> Result<HashSet<String>, ConnectorError> {
    let name = super::names::qualified(&table.schema, &table.table);
    let statement = format!(
        "SELECT a.attname::text FROM pg_attribute a
         WHERE a.attrelid = to_regclass($1) AND a.attnum > 0 AND NOT a.attisdropped AND ({FILLED})"
    );
    let rows = client.query(&statement, &[&name]).await.map_err(|e| explain(&e, "describing a table"))?;
    Ok(rows.iter().map(|row| row.get(0)).collect())
}

/// The columns that tables ever had, for each after a number of columns that it had before; none of one that is not there.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn columns_ever(
    client: &Client,
    tables: &[(&CapturedTable, i16)],
) -> Result<Vec<Option<ColumnsEver>>, ConnectorError> {
    let schemas: Vec<&str> = tables.iter().map(|(t, _)| t.schema.as_str()).collect();
    let names: Vec<&str> = tables.iter().map(|(t, _)| t.table.as_str()).collect();
    let after: Vec<i16> = tables.iter().map(|(_, after)| *after).collect();
    let statement = format!(
        "SELECT w.place, c.relnatts, count(*) FILTER (WHERE a.attisdropped),
                count(*) FILTER (WHERE a.attisdropped AND a.attnum <= w.after),
                coalesce(array_agg(a.attname::text) FILTER (WHERE came), '{{}}'),
                coalesce(array_agg({FILLED}) FILTER (WHERE came), '{{}}')
         FROM unnest($1::text[], $2::text[], $3::int2[]) WITH ORDINALITY AS w(schema, name, after, place)
         JOIN pg_namespace n ON n.nspname = w.schema JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = w.name
         JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0
         CROSS JOIN LATERAL (SELECT a.attnum > w.after AND NOT a.attisdropped AND a.attgenerated = '' AS came) came
         GROUP BY w.place, c.relnatts"
    );
    let rows = client.query(&statement, &[&schemas, &names, &after]).await;
    let rows = rows.map_err(|e| explain(&e, "looking at tables' columns"))?;
    let mut found = vec![None; tables.len()];
    for row in rows {
        let Some(place) = usize::try_from(row.get::<_, i64>(0)).ok().and_then(|place| place.checked_sub(1)) else {
            continue;
        };
        let came: Vec<(String, bool)> = row.get::<_, Vec<String>>(4).into_iter().zip(row.get::<_, Vec<bool>>(5)).collect();
        let captured = |(name, _): &(String, bool)| !tables[place].0.leave_out.contains(name);
        let came = came.into_iter().filter(captured).collect();
        found[place] = Some(ColumnsEver { had: row.get(1), gone: row.get(2), gone_before: row.get(3), came });
    }
    Ok(found)
}

/// Whether the source may have filled a column in its rows when it was added: it has a default, or may not be null.
const FILLED: &str = "a.atthasdef OR a.atthasmissing OR a.attnotnull OR a.attidentity <> ''";

/// Whether all captured columns of tables, as they are now, have types whose binary form is read. A table that is gone may still
/// come in the stream, with what columns is not known.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn read_as_binary(client: &Client, tables: &[CapturedTable]) -> Result<bool, ConnectorError> {
    let schemas: Vec<&str> = tables.iter().map(|t| t.schema.as_str()).collect();
    let names: Vec<&str> = tables.iter().map(|t| t.table.as_str()).collect();
    let rows = client
        .query(
            "SELECT w.place::bigint, a.attname::text, a.atttypid, a.atttypmod
             FROM unnest($1::text[], $2::text[]) WITH ORDINALITY AS w(schema, name, place)
             LEFT JOIN pg_namespace n ON n.nspname = w.schema
             LEFT JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = w.name
             LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = ''",
            &[&schemas, &names],
        )
        .await
        .map_err(|e| explain(&e, "describing tables"))?;
    Ok(rows.iter().all(|row| {
        let table = usize::try_from(row.get::<_, i64>(0)).ok().and_then(|place| tables.get(place.checked_sub(1)?));
        let (name, oid): (Option<String>, Option<u32>) = (row.get(1), row.get(2));
        let (Some(table), Some(name), Some(oid)) = (table, name, oid) else { return false };
        table.leave_out.contains(&name) || column_type(oid, row.get(3)) != ColumnType::Verbatim
    }))
}

/// All columns of a table that the log brings, whether they are wanted or not.
pub(super) async fn columns(client: &Client, table: &CapturedTable) -> Result<Vec<SampledColumn>, ConnectorError> {
    let rows = client.query(COLUMNS, &[&table.schema, &table.table]).await.map_err(|e| explain(&e, "describing a table"))?;
    let column = |row: &tokio_postgres::Row| SampledColumn {
        name: row.get(0),
        source_type: row.get(4),
        key: row.get(3),
        captured: true,
    };
    Ok(rows.iter().map(column).collect())
}

/// The shape of what is wanted of a table with these columns.
fn shape(system: &str, wanted: &CapturedTable, mut columns: Vec<Column>) -> Result<TableSchema, ConnectorError> {
    if !wanted.key.is_empty() {
        if let Some(gone) = wanted.key.iter().find(|key| !columns.iter().any(|c| c.name == **key)) {
            return Err(ConnectorError::settings(
                Some("tables"),
                format!("the table {} has no column {gone}, which is to be part of its key", wanted.qualified()),
                "choose the key anew",
            ));
        }
        for column in &mut columns {
            column.key = wanted.key.contains(&column.name);
        }
    }
    // a key column stays: without it rows could not be told apart
    columns.retain(|c| c.key || !wanted.leave_out.contains(&c.name));
    if !columns.iter().any(|c| c.key) {
        return Err(without_key(&wanted.schema, &wanted.table));
    }
    Ok(TableSchema { system: system.into(), schema: wanted.schema.clone(), table: wanted.table.clone(), columns })
}

/// The refusal of a table without a primary key.
#[must_use]
pub fn without_key(schema: &str, table: &str) -> ConnectorError {
    let name = super::names::qualified(schema, table);
    ConnectorError::settings(
        Some("tables"),
        format!("the table {schema}.{table} has no primary key, so its rows cannot be told apart"),
        "add a primary key, choose columns that are its key, or leave the table out",
    )
    .with_statement(format!("ALTER TABLE {name} ADD PRIMARY KEY (…);"))
}

/// How values of a type are carried, by its object id and modifier.
#[must_use]
pub fn column_type(oid: u32, modifier: i32) -> ColumnType {
    match oid {
        16 => ColumnType::Boolean,
        17 => ColumnType::Bytes,
        20 => ColumnType::Int64,
        21 => ColumnType::Int16,
        23 => ColumnType::Int32,
        25 | 1042 | 1043 => ColumnType::Text,
        700 => ColumnType::Float32,
        701 => ColumnType::Float64,
        1082 => ColumnType::Date,
        1114 => ColumnType::Timestamp,
        1184 => ColumnType::TimestampTz,
        1700 => decimal(modifier),
        _ => ColumnType::Verbatim,
    }
}

/// `numeric(p,s)` within 38 digits; any other numeric travels as its text.
fn decimal(modifier: i32) -> ColumnType {
    let packed = modifier - 4;
    let (precision, scale) = (packed >> 16 & 0xffff, packed & 0x7ff);
    match (u8::try_from(precision), u8::try_from(scale)) {
        (Ok(precision @ 1..=38), Ok(scale)) if modifier >= 4 && scale <= precision => {
            ColumnType::Decimal { precision, scale }
        }
        _ => ColumnType::Verbatim,
    }
}

/// The schema and name that a table has now, by its number; none if it is gone.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub(super) async fn name_now(client: &Client, oid: u32) -> Result<Option<(String, String)>, ConnectorError> {
    let name = "SELECT n.nspname::text, c.relname::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = $1";
    let row = client.query_opt(name, &[&oid]).await.map_err(|e| explain(&e, "looking at a table"))?;
    Ok(row.map(|row| (row.get(0), row.get(1))))
}

/// Turns relation messages into table shapes, asking the database for what the messages do not say.
#[derive(Debug, Default)]
pub struct Describer {
    types: HashMap<(u32, i32), DataType>,
}

impl Describer {
    /// The shape that a relation message describes, as far as it is wanted. Column names and types are the message's, valid at that place of the
    /// log; the key is the primary key's, or the replica identity's columns where the table is gone or altered since, or where the log
    /// does not hold the primary key of rows that are deleted.
    ///
    /// # Errors
    /// [`ConnectorError`] if the database does not answer or the table has no key.
    pub async fn describe(
        &mut self,
        client: &Client,
        system: &str,
        wanted: &CapturedTable,
        relation: &Relation,
    ) -> Result<Arc<TableSchema>, ConnectorError> {
        let now = client
            .query(COLUMNS, &[&relation.schema, &relation.name])
            .await
            .map_err(|e| explain(&e, "describing a table"))?;
        let key: Vec<String> = now.iter().filter(|r| r.get(3)).map(|r| r.get(0)).collect();
        let held = |c: &RelationColumn| c.identity || relation.identity == b'n';
        let usable = !key.is_empty() && key.iter().all(|k| relation.columns.iter().any(|c| c.name == *k && held(c)));
        let mut columns = Vec::with_capacity(relation.columns.len());
        for column in &relation.columns {
            columns.push(Column {
                name: column.name.clone(),
                ty: column_type(column.type_oid, column.type_modifier),
                source_type: self.data_type(client, column.type_oid, column.type_modifier).await?,
                key: if usable { key.contains(&column.name) } else { column.identity && relation.identity != b'f' },
            });
        }
        shape(system, wanted, columns).map(Arc::new)
    }

    async fn data_type(&mut self, client: &Client, oid: u32, modifier: i32) -> Result<DataType, ConnectorError> {
        if let Some(found) = self.types.get(&(oid, modifier)) {
            return Ok(found.clone());
        }
        let row = client
            .query_opt(
                concat!(
                    "SELECT ",
                    portable_type!("$2"),
                    " FROM pg_type t LEFT JOIN pg_type e ON e.oid = t.typelem AND t.typcategory = 'A' WHERE t.oid = $1"
                ),
                &[&oid, &modifier],
            )
            .await
            .map_err(|e| explain(&e, "describing a type"))?;
        let found = row.map_or(DataType::Text, |r| of_name(r.get(0)));
        self.types.insert((oid, modifier), found.clone());
        Ok(found)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numerics_with_a_precision_are_decimals() {
        let modifier = |p: i32, s: i32| ((p << 16) | (s & 0x7ff)) + 4;
        assert_eq!(column_type(1700, modifier(7, 1)), ColumnType::Decimal { precision: 7, scale: 1 });
        assert_eq!(column_type(1700, modifier(38, 38)), ColumnType::Decimal { precision: 38, scale: 38 });
        for modifier in [-1, modifier(39, 2), modifier(5, -2), modifier(3, 5)] {
            assert_eq!(column_type(1700, modifier), ColumnType::Verbatim);
        }
    }
}

//! Reading the rows of a range of pages.

use std::sync::Arc;

use bytes::{Buf, BytesMut};
use futures::StreamExt;
use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, Origin};
use gonvel_core::column::Value;
use gonvel_core::connector::CapturedTable;
use gonvel_core::loading::Rewritten;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::sql_text;
use gonvel_core::table::TableSchema;
use tokio_postgres::Client;

use super::chunk::Chunk;
use super::plan::{Plan, Range};
use crate::postgres::client::explain;
use crate::postgres::names::{ident, qualified};
use crate::postgres::position::{Part, TableLoad};
use crate::postgres::snapshot::current_snapshot;
use crate::postgres::{binary, copy_text, tables};

/// What a table's load is about to read: its parts with their sizes now. What lies after was written later and is in the log.
pub(super) async fn begin(client: &Client, table: &CapturedTable) -> Result<TableLoad, ConnectorError> {
    let name = qualified(&table.schema, &table.table);
    let rows = client
        .query(
            // a table that another session drops meanwhile has no file any more: whoever reads it finds out which it has then
            "SELECT nspname, relname, coalesce(pg_relation_filenode(oid), 0),
                    (coalesce(pg_relation_size(oid), 0) / current_setting('block_size')::bigint)::bigint, greatest(reltuples, 0)::bigint
             FROM (SELECT n.nspname::text, c.relname::text, c.oid, c.reltuples
                   FROM pg_partition_tree($1::text::regclass) t JOIN pg_class c ON c.oid = t.relid
                   JOIN pg_namespace n ON n.oid = c.relnamespace WHERE t.isleaf
                   UNION
                   SELECT $2::text, $3::text, c.oid, c.reltuples
                   FROM pg_class c WHERE c.oid = $1::text::regclass AND c.relkind = 'r' AND NOT c.relispartition) parts
             ORDER BY 1, 2",
            &[&name, &table.schema, &table.table],
        )
        .await
        .map_err(|e| explain(&e, "looking at a table to load"))?;
    let whole = |n: i64| u64::try_from(n).unwrap_or(0);
    let mut load = TableLoad { rows: 0, expected: rows.iter().map(|r| whole(r.get(4))).sum(), parts: Vec::new() };
    for row in rows {
        let pages = u32::try_from(row.get::<_, i64>(3)).unwrap_or(u32::MAX);
        load.parts.push(Part::new(row.get(0), row.get(1), row.get(2), pages));
    }
    // a partitioned table without partitions has nothing to read, and is done when that is known
    if load.parts.is_empty() {
        load.parts.push(Part::new(table.schema.clone(), table.table.clone(), 0, 0));
    }
    Ok(load)
}

/// Reads a range; none if it was given out before its table was rewritten and someone else has noticed that already.
pub(super) async fn range(
    client: &Client,
    system: &str,
    table: &Arc<CapturedTable>,
    range: Range,
    plan: &Plan,
    mark: String,
) -> Result<Option<Chunk>, ConnectorError> {
    client
        .batch_execute("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY")
        .await
        .map_err(|e| explain(&e, "beginning to read rows"))?;
    let chunk = in_transaction(client, system, table, range, plan, mark).await;
    client.batch_execute("COMMIT").await.map_err(|e| explain(&e, "ending to read rows"))?;
    chunk
}

async fn in_transaction(
    client: &Client,
    system: &str,
    table: &Arc<CapturedTable>,
    mut range: Range,
    plan: &Plan,
    mark: String,
) -> Result<Option<Chunk>, ConnectorError> {
    let name = qualified(&range.part.schema, &range.part.table);
    let during = |e: tokio_postgres::Error| explain(&e, "reading rows for the initial load");
    // locked before the snapshot is taken: no one rewrites the table between the two
    let locked = client.batch_execute(&format!("LOCK TABLE {name} IN ACCESS SHARE MODE")).await;
    if let Err(error) = locked {
        // a partition that was dropped has no rows to load; the table itself must be there
        let dropped = error.code() == Some(&tokio_postgres::error::SqlState::UNDEFINED_TABLE);
        if dropped && (&range.part.schema, &range.part.table) != (&table.schema, &table.table) {
            client.batch_execute("ROLLBACK; BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY").await.map_err(during)?;
            return empty(client, system, table, range, plan, mark).await;
        }
        return Err(during(error));
    }
    let snapshot = current_snapshot(client).await?;
    let shape = Arc::new(tables::describe(client, system, table).await?);
    let row = client
        .query_one(
            "SELECT coalesce(pg_relation_filenode(c.oid), 0),
                (coalesce(pg_relation_size(c.oid), 0) / current_setting('block_size')::bigint)::bigint, c.xmin::text::bigint,
                c.relfrozenxid::text::bigint
             FROM pg_class c WHERE c.oid = $1::text::regclass",
            &[&name],
        )
        .await
        .map_err(during)?;
    let (file, pages): (u32, i64) = (row.get(0), row.get(1));
    let transaction = |column: usize| u32::try_from(row.get::<_, i64>(column)).unwrap_or(0);
    let rewritten = Rewritten { altered: transaction(2), oldest: transaction(3) };
    if file != range.part.file {
        // a table that was rewritten has its rows elsewhere: it is read again from its start
        let pages = u32::try_from(pages).unwrap_or(u32::MAX);
        let Some(again) = plan.rewritten(table, &range, file, pages) else { return Ok(None) };
        range = again;
    }
    let mut condition = format!("ctid >= '({},0)' AND ctid < '({},0)'", range.from, range.to);
    if let Some(only) = &table.load_where {
        // on a line of its own: a comment at its end must not swallow the parenthesis
        condition = format!("{condition} AND (\n{only}\n)");
    }
    let (batch, writers) = rows(client, &name, &shape, &condition).await?;
    Ok(Some(Chunk { mark, name: table.qualified(), batch, writers, rewritten, snapshot, range }))
}

async fn empty(
    client: &Client,
    system: &str,
    table: &Arc<CapturedTable>,
    range: Range,
    plan: &Plan,
    mark: String,
) -> Result<Option<Chunk>, ConnectorError> {
    let snapshot = current_snapshot(client).await?;
    let shape = Arc::new(tables::describe(client, system, table).await?);
    let Some(range) = plan.rewritten(table, &range, 0, 0) else { return Ok(None) };
    let batch = ChangeBatchBuilder::new(shape).finish();
    Ok(Some(Chunk {
        mark,
        name: table.qualified(),
        batch,
        writers: Vec::new(),
        rewritten: Rewritten::default(),
        snapshot,
        range,
    }))
}

type Rows = (ChangeBatch, Vec<u32>);

async fn rows(client: &Client, name: &str, shape: &Arc<TableSchema>, condition: &str) -> Result<Rows, ConnectorError> {
    let during = |e: tokio_postgres::Error| explain(&e, "reading rows for the initial load");
    let columns: Vec<String> = shape.columns.iter().map(|c| ident(&c.name)).collect();
    let binary = binary::reads(shape);
    let form = if binary { "binary" } else { "text" };
    let statement =
        format!("COPY (SELECT xmin, {} FROM ONLY {name} WHERE {condition}) TO STDOUT (FORMAT {form})", columns.join(", "));
    let stream = client.copy_out(&statement).await.map_err(during)?;
    futures::pin_mut!(stream);
    let mut reader = RowReader::new(shape.clone());
    let mut rest = BytesMut::new();
    let mut begun = !binary;
    while let Some(part) = stream.next().await {
        rest.extend_from_slice(&part.map_err(during)?);
        if !begun {
            let Some(length) = binary::header(&rest) else { continue };
            rest.advance(length);
            begun = true;
        }
        if binary {
            while let Some(length) = binary::tuple(&rest, &mut reader.places) {
                let tuple = rest.split_to(length);
                if !reader.places.is_empty() {
                    reader.row(&tuple, true)?;
                }
            }
        } else {
            while let Some(end) = rest.iter().position(|&b| b == b'\n') {
                let line = rest.split_to(end + 1);
                let mut unescaped = std::mem::take(&mut reader.unescaped);
                let text = copy_text::fields(&line[..end], &mut unescaped, &mut reader.places);
                reader.row(text, false)?;
                reader.unescaped = unescaped;
            }
        }
    }
    Ok((reader.builder.finish(), reader.writers))
}

struct RowReader {
    builder: ChangeBatchBuilder,
    writers: Vec<u32>,
    read_at: i64,
    unescaped: Vec<u8>,
    places: Vec<Option<(usize, usize)>>,
    scratch: Vec<u8>,
}

impl RowReader {
    fn new(shape: Arc<TableSchema>) -> Self {
        Self {
            builder: ChangeBatchBuilder::new(shape),
            writers: Vec::new(),
            read_at: chrono::Utc::now().timestamp_micros(),
            unescaped: Vec::new(),
            places: Vec::new(),
            scratch: Vec::new(),
        }
    }

    /// Takes one row, whose fields are at `places` of the data.
    fn row(&mut self, data: &[u8], is_binary: bool) -> Result<(), ConnectorError> {
        let shape = self.builder.table().clone();
        let bad = |finding: String| ConnectorError::bad_record(finding);
        if self.places.len() != shape.columns.len() + 1 {
            return Err(bad(format!("a row of {} has {} fields", shape.qualified(), self.places.len())));
        }
        let cell = |index: usize| self.places[index].map(|(start, end)| &data[start..end]);
        let writer = match cell(0) {
            Some(bytes) if is_binary => bytes.try_into().ok().map(u32::from_be_bytes),
            text => text.and_then(|t| std::str::from_utf8(t).ok()).and_then(|t| t.parse().ok()),
        };
        self.writers.push(writer.ok_or_else(|| bad("a row without its transaction".into()))?);
        self.builder.begin(ChangeKind::Load, Origin { commit_time_us: self.read_at, ..Origin::default() });
        for (index, column) in shape.columns.iter().enumerate() {
            let value = match cell(index + 1) {
                None => Ok(Value::Null),
                Some(bytes) if is_binary => binary::read(column.ty, bytes),
                Some(text) => sql_text::read(column.ty, text, &mut self.scratch),
            };
            let value = value.map_err(|e| bad(format!("{}.{}: {e}", shape.qualified(), column.name)))?;
            self.builder.new_value(index, value).map_err(|e| ConnectorError::Defect(e.to_string()))?;
        }
        self.builder.no_old();
        Ok(())
    }
}

//! A few rows of a table as they are now, and the records they would become.

use std::collections::BTreeMap;
use std::sync::Arc;

use futures::TryStreamExt as _;
use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, Origin};
use gonvel_core::column::Value;
use gonvel_core::connector::{CapturedTable, Encoding, Values};
use gonvel_core::ports::systems::{ConnectorError, ReadRows, Sample, SampledColumn, SampledRow};
use gonvel_core::record_form::RecordForm;
use gonvel_core::sql_text;

use super::client::{Client, connect, explain};
use super::names::{ident, literal, qualified};
use super::tables;
use crate::postgres::address::DatabaseAddress;
use crate::sampling::as_record;

/// Rows of a sample.
const ROWS: usize = 8;

/// Reads a few rows as they are now. The load's condition holds for them as well.
///
/// # Errors
/// [`ConnectorError`] if the table is not there, or its condition is not understood, or it takes longer than some seconds.
pub async fn sample(address: &DatabaseAddress, table: &CapturedTable, how: Values) -> Result<Sample, ConnectorError> {
    let client = connect(address).await?;
    let during = |e: tokio_postgres::Error| explain(&e, "reading a few rows");
    client
        .batch_execute("SET statement_timeout = '5s'; BEGIN READ ONLY")
        .await
        .map_err(|e| explain(&e, "beginning to read a few rows"))?;
    let shape = Arc::new(tables::describe(&client, &address.database, table).await?);
    let all = tables::columns(&client, table).await?;
    let only = table.load_where.as_ref().map(|only| format!("WHERE (\n{only}\n)")).unwrap_or_default();
    let texts: Vec<String> = all.iter().map(|c| format!("{}::text", ident(&c.name))).collect();
    let name = qualified(&table.schema, &table.table);
    let statement = format!("SELECT {} FROM {name} {only} LIMIT {ROWS}", texts.join(", "));
    let found = client.query(&statement, &[]).await.map_err(during)?;
    let form = RecordForm::of(shape.clone(), how);
    let mut rows = Vec::with_capacity(found.len());
    for row in &found {
        let cells: Vec<Option<String>> = (0..all.len()).map(|i| row.get(i)).collect();
        rows.push(record(&form, &shape, &all.iter().map(|c| c.name.as_str()).collect::<Vec<_>>(), cells, how.encoding)?);
    }
    let columns = all.into_iter().map(|column| {
        let captured = shape.columns.iter().find(|c| c.name == column.name);
        SampledColumn { key: captured.is_some_and(|c| c.key), captured: captured.is_some(), ..column }
    });
    Ok(Sample { columns: columns.collect(), rows })
}

/// Rows of a table as they are now, as those of an initial load. The load's condition holds for them as well.
///
/// # Errors
/// [`ConnectorError`] as for [`sample`].
pub async fn rows(address: &DatabaseAddress, table: &CapturedTable, most: usize) -> Result<ChangeBatch, ConnectorError> {
    let client = connect(address).await?;
    client
        .batch_execute("SET statement_timeout = '20s'; BEGIN READ ONLY")
        .await
        .map_err(|e| explain(&e, "beginning to read rows"))?;
    let only = table.load_where.as_ref().map(|only| format!("WHERE (\n{only}\n)")).unwrap_or_default();
    read(&client, &address.database, table, &format!("{only} LIMIT {most}")).await
}

/// Rows of a table as they are now, by their key columns and their values as the server writes them; those that are gone are left
/// out.
///
/// # Errors
/// [`ConnectorError`] if the table cannot be read.
pub async fn rows_by_key(
    client: &Client,
    database: &str,
    table: &CapturedTable,
    keys: &[BTreeMap<String, String>],
) -> Result<ChangeBatch, ConnectorError> {
    let is = |(column, value): (&String, &String)| format!("{} = {}", ident(column), literal(value));
    let one = |key: &BTreeMap<String, String>| key.iter().map(is).collect::<Vec<_>>().join(" AND ");
    let any: Vec<String> = keys.iter().map(|key| format!("({})", one(key))).collect();
    let which = if any.is_empty() { "WHERE false".to_owned() } else { format!("WHERE {}", any.join(" OR ")) };
    read(client, database, table, &which).await
}

/// All rows of a table as they are now, with the columns of its key and some others, batch after batch: the first is empty, so that
/// a table without rows has columns as well.
///
/// # Errors
/// [`ConnectorError`] if the table cannot be read, or of who takes the rows.
pub async fn all_rows(
    address: &DatabaseAddress,
    table: &CapturedTable,
    columns: &[String],
    take: &mut ReadRows<'_>,
) -> Result<(), ConnectorError> {
    /// Rows of a batch.
    const BATCH: usize = 5_000;
    let client = connect(address).await?;
    let during = |e: tokio_postgres::Error| explain(&e, "reading a table that is looked into");
    client.batch_execute("SET statement_timeout = '10min'; BEGIN READ ONLY").await.map_err(during)?;
    let mut shape = tables::describe(&client, &address.database, table).await?;
    shape.columns.retain(|column| column.key || columns.contains(&column.name));
    let shape = Arc::new(shape);
    let texts: Vec<String> = shape.columns.iter().map(|c| format!("{}::text", ident(&c.name))).collect();
    let statement = format!("SELECT {} FROM {}", texts.join(", "), qualified(&table.schema, &table.table));
    let rows = client.query_raw(&statement, std::iter::empty::<String>()).await.map_err(during)?;
    let mut rows = std::pin::pin!(rows);
    let now = chrono::Utc::now().timestamp_micros();
    let mut builder = ChangeBatchBuilder::new(shape.clone());
    take(&builder.finish())?;
    while let Some(row) = rows.try_next().await.map_err(during)? {
        let cells: Vec<Option<&str>> = (0..shape.columns.len()).map(|i| row.get(i)).collect();
        push(&mut builder, now, |name| shape.columns.iter().position(|c| c.name == name).and_then(|place| cells[place]))?;
        if builder.len() >= BATCH {
            take(&builder.finish())?;
        }
    }
    take(&builder.finish())?;
    Ok(())
}

async fn read(client: &Client, database: &str, table: &CapturedTable, which: &str) -> Result<ChangeBatch, ConnectorError> {
    let shape = Arc::new(tables::describe(client, database, table).await?);
    let texts: Vec<String> = shape.columns.iter().map(|c| format!("{}::text", ident(&c.name))).collect();
    let name = qualified(&table.schema, &table.table);
    let statement = format!("SELECT {} FROM {name} {which}", texts.join(", "));
    let found = client.query(&statement, &[]).await.map_err(|e| explain(&e, "reading rows"))?;
    let now = chrono::Utc::now().timestamp_micros();
    let mut builder = ChangeBatchBuilder::new(shape.clone());
    for row in &found {
        let cells: Vec<Option<String>> = (0..shape.columns.len()).map(|i| row.get(i)).collect();
        let text = |name: &str| shape.columns.iter().position(|c| c.name == name).and_then(|place| cells[place].as_deref());
        push(&mut builder, now, text)?;
    }
    Ok(builder.finish())
}

/// One more row of a load, by the text of each column.
fn push<'t>(
    builder: &mut ChangeBatchBuilder,
    now_us: i64,
    text: impl Fn(&str) -> Option<&'t str>,
) -> Result<(), ConnectorError> {
    let shape = builder.table().clone();
    builder.begin(ChangeKind::Load, Origin { commit_time_us: now_us, ..Origin::default() });
    let mut scratch = Vec::new();
    for (index, column) in shape.columns.iter().enumerate() {
        let value = match text(&column.name) {
            None => Value::Null,
            Some(text) => sql_text::read(column.ty, text.as_bytes(), &mut scratch)
                .map_err(|e| ConnectorError::bad_record(format!("{}.{}: {e}", shape.qualified(), column.name)))?,
        };
        builder.new_value(index, value).map_err(|e| ConnectorError::Defect(e.to_string()))?;
    }
    builder.no_old();
    Ok(())
}

fn record(
    form: &RecordForm,
    shape: &Arc<gonvel_core::table::TableSchema>,
    names: &[&str],
    cells: Vec<Option<String>>,
    encoding: Encoding,
) -> Result<SampledRow, ConnectorError> {
    let now = chrono::Utc::now().timestamp_micros();
    let mut builder = ChangeBatchBuilder::new(shape.clone());
    let text = |name: &str| names.iter().position(|n| *n == name).and_then(|place| cells[place].as_deref());
    push(&mut builder, now, text)?;
    let batch = builder.finish();
    Ok(as_record(form, &batch, 0, (cells, encoding)))
}

//! Values that the server left out of an update because they did not change, as the table has them.

use std::collections::HashMap;

use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::sql_text;
use gonvel_core::table::TableSchema;
use tokio_postgres::Client;
use tokio_postgres::error::SqlState;

use super::client::explain;
use super::followed::{Followed, value_of};
use super::names::{self, ident, qualified};
use super::pgoutput::Cell;

/// Some columns of a row as the table has them now, without those that are null or were dropped since; none if the row, the table or a
/// column of the key is gone. The transaction that changed the row must be visible.
pub(super) async fn fetch(
    client: &Client,
    followed: &Followed,
    cells: &[Cell<'_>],
    missing: &[usize],
) -> Result<Option<HashMap<usize, Vec<u8>>>, ConnectorError> {
    let shape = &followed.shape;
    let wanted: Vec<String> = shape
        .key_columns()
        .into_iter()
        .map(|i| {
            let (column, mut text, mut scratch) = (&shape.columns[i], Vec::new(), Vec::new());
            if let Ok(value) = value_of(column.ty, cells[i], &mut scratch) {
                sql_text::write(column.ty, value, &mut text);
            }
            format!("{} = {}", ident(&column.name), names::literal(&String::from_utf8_lossy(&text)))
        })
        .collect();
    let table = qualified(&shape.schema, &shape.table);
    let mut missing = missing.to_vec();
    loop {
        let columns: Vec<String> = missing.iter().map(|&i| format!("{}::text", ident(&shape.columns[i].name))).collect();
        let statement = format!("SELECT {} FROM {table} WHERE {}", columns.join(", "), wanted.join(" AND "));
        let row = match client.query_opt(&statement, &[]).await {
            Ok(row) => row,
            Err(e) if e.code() == Some(&SqlState::UNDEFINED_TABLE) => return Ok(None),
            Err(e) if e.code() == Some(&SqlState::UNDEFINED_COLUMN) => {
                // a column that was dropped since has no values any more, and the row has others
                let there = columns_there(client, shape).await?;
                if shape.key_columns().iter().any(|&i| !there.contains(&shape.columns[i].name)) {
                    return Ok(None);
                }
                missing.retain(|&i| there.contains(&shape.columns[i].name));
                continue;
            }
            Err(e) => return Err(explain(&e, "fetching a large value")),
        };
        return Ok(row.map(|row| {
            let value = |(place, &index): (usize, &usize)| Some((index, row.get::<_, Option<String>>(place)?.into_bytes()));
            missing.iter().enumerate().filter_map(value).collect()
        }));
    }
}

/// The columns that a table has by now.
async fn columns_there(client: &Client, shape: &TableSchema) -> Result<Vec<String>, ConnectorError> {
    let rows = client
        .query(
            "SELECT a.attname::text FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid
             JOIN pg_namespace n ON n.oid = c.relnamespace
             WHERE n.nspname = $1 AND c.relname = $2 AND a.attnum > 0 AND NOT a.attisdropped",
            &[&shape.schema, &shape.table],
        )
        .await
        .map_err(|e| explain(&e, "looking at a table's columns"))?;
    Ok(rows.iter().map(|row| row.get(0)).collect())
}

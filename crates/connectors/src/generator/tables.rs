//! Recipes as tables: their columns, and rows as they would be made.

use std::collections::BTreeMap;
use std::sync::Arc;

use async_trait::async_trait;
use chrono::Utc;
use gonvel_core::change::{ChangeBatch, ChangeKind, OldImage, Origin};
use gonvel_core::connector::{CapturedTable, Values};
use gonvel_core::ports::Address;
use gonvel_core::ports::systems::{ConnectorError, ReadRows, Sample, SampledColumn, TableSummary, Tables};
use gonvel_core::record_form::RecordForm;
use gonvel_core::sql_text;
use gonvel_core::table::TableSchema;

use super::about::SCHEMA;
use super::kind::{Generator, Kitchen};
use super::making::Making;
use super::recipe::Holds;
use crate::sampling::as_record;

/// Rows of a sample.
const ROWS: u64 = 8;
/// Rows that are made at a time.
const BATCH: u64 = 5_000;

/// Rows of a table by their numbers, each of a kind, from an origin on that counts them.
pub(super) fn made(
    making: &Making,
    (shape, places): &(Arc<TableSchema>, Vec<usize>),
    numbers: &[u64],
    (kind, before, now_us): (ChangeKind, u64, i64),
) -> ChangeBatch {
    let origin = |n: u64| Origin { position: n, transaction: n, sequence: 0, commit_time_us: now_us };
    ChangeBatch {
        table: shape.clone(),
        kinds: vec![kind; numbers.len()],
        new: making.columns(places, numbers, now_us),
        old: Vec::new(),
        old_images: vec![OldImage::None; numbers.len()],
        unchanged: std::collections::HashMap::new(),
        origins: (before + 1..).take(numbers.len()).map(origin).collect(),
    }
}

/// How a table is made, and its shape as it is captured.
pub(super) type Captured = (Making, (Arc<TableSchema>, Vec<usize>));

/// Both, of a table that is wanted.
///
/// # Errors
/// [`ConnectorError::Settings`] if there is no such recipe; [`ConnectorError::TryAgain`] if it picks from keys that are not there.
pub(super) fn captured(kitchen: &Kitchen, table: &CapturedTable) -> Result<Captured, ConnectorError> {
    let (shape, places) = kitchen.recipe(table)?.captured(table)?;
    Ok((kitchen.making(table)?, (Arc::new(shape), places)))
}

/// Rows by their numbers, as people write those in keys; others are not there.
pub(super) fn by_key(
    kitchen: &Kitchen,
    table: &CapturedTable,
    keys: &[BTreeMap<String, String>],
) -> Result<ChangeBatch, ConnectorError> {
    let (making, shape) = captured(kitchen, table)?;
    let number = making.recipe.number().to_owned();
    let numbers: Vec<u64> = keys.iter().filter_map(|key| key.get(&number)?.parse().ok()).filter(|n| *n > 0).collect();
    Ok(made(&making, &shape, &numbers, (ChangeKind::Load, 0, Utc::now().timestamp_micros())))
}

/// The numbers of a table's first rows.
fn first(making: &Making, most: u64) -> Vec<u64> {
    (1..=making.recipe.rows.unwrap_or(u64::MAX).min(most)).collect()
}

#[async_trait]
impl Tables for Generator {
    async fn list(&self, address: &Address) -> Result<Vec<TableSummary>, ConnectorError> {
        let summary = |recipe: super::recipe::Recipe| TableSummary {
            schema: SCHEMA.into(),
            rows: recipe.rows.and_then(|rows| i64::try_from(rows).ok()),
            key: vec![recipe.number().to_owned()],
            columns: i64::try_from(recipe.columns.len()).unwrap_or(0),
            table: recipe.table,
        };
        Ok(Kitchen::of(address)?.recipes.into_iter().map(summary).collect())
    }

    async fn describe(&self, address: &Address, table: &CapturedTable) -> Result<TableSchema, ConnectorError> {
        Ok(Kitchen::of(address)?.recipe(table)?.captured(table)?.0)
    }

    async fn sample(&self, address: &Address, table: &CapturedTable, values: Values) -> Result<Sample, ConnectorError> {
        let kitchen = Kitchen::of(address)?;
        let (making, shape) = captured(&kitchen, table)?;
        let whole = captured(&kitchen, &CapturedTable::whole(&table.schema, &table.table, ""))?.1;
        let numbers = first(&making, ROWS);
        let now = (ChangeKind::Load, 0, Utc::now().timestamp_micros());
        let (batch, all) = (made(&making, &shape, &numbers, now), made(&making, &whole, &numbers, now));
        let form = RecordForm::of(shape.0.clone(), values);
        let cell = |row: usize, column: usize| {
            let mut text = Vec::new();
            let is = sql_text::write(whole.0.columns[column].ty, all.new[column].value(row), &mut text);
            is.then(|| String::from_utf8_lossy(&text).into_owned())
        };
        let cells = |row: usize| (0..whole.0.columns.len()).map(|column| cell(row, column)).collect();
        let rows = (0..numbers.len()).map(|row| as_record(&form, &batch, row, (cells(row), values.encoding))).collect();
        let columns = whole.0.columns.iter().map(|column| {
            let captured = shape.0.columns.iter().find(|c| c.name == column.name);
            SampledColumn {
                name: column.name.clone(),
                source_type: column.source_type.to_string(),
                key: captured.is_some_and(|c| c.key),
                captured: captured.is_some(),
            }
        });
        Ok(Sample { columns: columns.collect(), rows })
    }

    async fn rows(&self, address: &Address, table: &CapturedTable, most: usize) -> Result<ChangeBatch, ConnectorError> {
        let (making, shape) = captured(&Kitchen::of(address)?, table)?;
        let numbers = first(&making, u64::try_from(most).unwrap_or(u64::MAX));
        Ok(made(&making, &shape, &numbers, (ChangeKind::Load, 0, Utc::now().timestamp_micros())))
    }

    async fn rows_by_key(
        &self,
        address: &Address,
        table: &CapturedTable,
        keys: &[BTreeMap<String, String>],
    ) -> Result<ChangeBatch, ConnectorError> {
        by_key(&Kitchen::of(address)?, table, keys)
    }

    async fn all_rows(
        &self,
        address: &Address,
        table: &CapturedTable,
        columns: &[String],
        take: &mut ReadRows<'_>,
    ) -> Result<(), ConnectorError> {
        let kitchen = Kitchen::of(address)?;
        let recipe = kitchen.recipe(table)?;
        let Some(rows) = recipe.rows else {
            let finding = format!("{} has no end, so all its rows cannot be read", recipe.qualified());
            return Err(ConnectorError::settings(Some("recipes"), finding, "give the recipe a number of rows"));
        };
        let kept =
            |column: &super::recipe::Column| matches!(column.holds, Holds::Number {}) || columns.contains(&column.name);
        let left = recipe.columns.iter().filter(|column| !kept(column)).map(|column| column.name.clone());
        let (making, shape) = captured(&kitchen, &CapturedTable { leave_out: left.collect(), ..table.clone() })?;
        let now_us = Utc::now().timestamp_micros();
        for from in (1..=rows).step_by(usize::try_from(BATCH).unwrap_or(1)) {
            let numbers: Vec<u64> = (from..=rows.min(from + BATCH - 1)).collect();
            take(&made(&making, &shape, &numbers, (ChangeKind::Load, 0, now_us)))?;
        }
        Ok(())
    }
}

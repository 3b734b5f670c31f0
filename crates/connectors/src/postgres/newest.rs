//! Rows of which the newest of each key counts by a column of theirs, in whatever order they come.

use std::cmp::Ordering;
use std::collections::HashMap;

use bytes::Bytes;
use gonvel_core::change::ChangeKind;
use gonvel_core::column::Value;
use gonvel_core::fold::Place;
use gonvel_core::table::TableSchema;
use tokio_postgres::Error;

use super::apply::Application;
use crate::error::ConnectorError;

/// The place of the column by which the newest is found.
///
/// # Errors
/// [`ConnectorError::Settings`] if the rows that come have no such column, or their table has none.
pub(super) fn column(table: &TableSchema, present: &[usize], name: &str) -> Result<usize, ConnectorError> {
    let found = table.columns.iter().position(|column| column.name == name).filter(|place| present.contains(place));
    found.ok_or_else(|| {
        ConnectorError::settings(
            Some("topics"),
            format!("the newest row of each key is to be found by {name}, and the table has no such column"),
            "keep the column in the shape and in the target, or find the newest by another",
        )
    })
}

/// Values of one column in order; null comes before all others.
fn compare(a: &Value<'_>, b: &Value<'_>) -> Ordering {
    let ordered = match (a, b) {
        (Value::Null, Value::Null) => Some(Ordering::Equal),
        (Value::Null, _) => Some(Ordering::Less),
        (_, Value::Null) => Some(Ordering::Greater),
        (Value::Boolean(a), Value::Boolean(b)) => a.partial_cmp(b),
        (Value::Int(a), Value::Int(b)) => a.partial_cmp(b),
        (Value::Long(a), Value::Long(b)) => a.partial_cmp(b),
        (Value::Float(a), Value::Float(b)) => a.partial_cmp(b),
        (Value::Double(a), Value::Double(b)) => a.partial_cmp(b),
        (Value::Decimal(a), Value::Decimal(b)) => a.partial_cmp(b),
        (Value::Text(a), Value::Text(b)) => a.partial_cmp(b),
        (Value::Bytes(a), Value::Bytes(b)) => a.partial_cmp(b),
        (Value::Date(a), Value::Date(b)) => a.partial_cmp(b),
        (Value::Timestamp(a), Value::Timestamp(b)) => a.partial_cmp(b),
        _ => None,
    };
    // what cannot be compared here is compared by the target
    ordered.unwrap_or(Ordering::Equal)
}

/// What changes come to for one key.
#[derive(Clone, Copy, Default)]
struct Comes {
    /// The row goes first.
    deleted: Option<Place>,
    /// Then this one is written, unless a newer one is there.
    written: Option<Place>,
}

/// Applies changes; a delete takes the row whatever its age, since it has none itself.
///
/// # Errors
/// The database's own, as it came.
pub(super) async fn apply(
    application: &Application<'_>,
    changes: &[(Place, Bytes)],
    by: Option<usize>,
) -> Result<(), Error> {
    let value = |(batch, row): Place| by.map_or(Value::Null, |by| application.batches[batch].new[by].value(row));
    let mut keys: HashMap<&Bytes, Comes> = HashMap::with_capacity(changes.len());
    for (place, key) in changes {
        let comes = keys.entry(key).or_default();
        match application.batches[place.0].kinds[place.1] {
            ChangeKind::Delete => *comes = Comes { deleted: Some(*place), written: None },
            _ if comes.written.is_some_and(|known| compare(&value(known), &value(*place)) == Ordering::Greater) => {}
            _ => comes.written = Some(*place),
        }
    }
    let mut deleted: Vec<Place> = keys.values().filter_map(|comes| comes.deleted).collect();
    let mut written: Vec<Place> = keys.values().filter_map(|comes| comes.written).collect();
    deleted.sort_unstable();
    written.sort_unstable();
    if !deleted.is_empty() {
        if application.marks {
            application.mark(&deleted).await?;
        } else {
            application.delete(&deleted).await?;
        }
    }
    if written.is_empty() { Ok(()) } else { application.upsert_unless_newer(&written, by).await }
}

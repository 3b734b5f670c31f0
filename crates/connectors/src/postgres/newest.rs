//! Rows of which the newest of each key counts by a column of theirs, in whatever order they come.

use std::cmp::Ordering;
use std::collections::HashMap;

use bytes::Bytes;
use gonvel_core::change::ChangeKind;
use gonvel_core::column::{NOT_A_NUMBER, Value};
use gonvel_core::fold::Place;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::table::TableSchema;
use tokio_postgres::Error;

use super::apply::Application;

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

/// Values of one column, a number, a date or a time, in the order that the target has them in: NaN after all numbers. Null comes
/// before all others.
fn compare(a: Value<'_>, b: Value<'_>) -> Ordering {
    let float = |a: f64, b: f64| a.partial_cmp(&b).unwrap_or_else(|| a.is_nan().cmp(&b.is_nan()));
    match (a, b) {
        (Value::Null, Value::Null) => Ordering::Equal,
        (Value::Null, _) => Ordering::Less,
        (_, Value::Null) => Ordering::Greater,
        (Value::Int(a), Value::Int(b)) => a.cmp(&b),
        (Value::Long(a), Value::Long(b)) => a.cmp(&b),
        (Value::Float(a), Value::Float(b)) => float(a.into(), b.into()),
        (Value::Double(a), Value::Double(b)) => float(a, b),
        (Value::Decimal(a), Value::Decimal(b)) => (a == NOT_A_NUMBER, a).cmp(&(b == NOT_A_NUMBER, b)),
        (Value::Date(a), Value::Date(b)) => a.cmp(&b),
        (Value::Timestamp(a), Value::Timestamp(b)) => a.cmp(&b),
        // a shape made something else of the column: the later one counts, unless the target knows better
        _ => Ordering::Equal,
    }
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
pub(super) async fn apply(application: &Application<'_>, changes: &[(Place, Bytes)], by: usize) -> Result<(), Error> {
    let value = |(batch, row): Place| application.batches[batch].new[by].value(row);
    let mut keys: HashMap<&Bytes, Comes> = HashMap::with_capacity(changes.len());
    for (place, key) in changes {
        let comes = keys.entry(key).or_default();
        match application.batches[place.0].kinds[place.1] {
            ChangeKind::Delete => *comes = Comes { deleted: Some(*place), written: None },
            _ if comes.written.is_some_and(|known| compare(value(known), value(*place)) == Ordering::Greater) => {}
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
    if written.is_empty() { Ok(()) } else { application.upsert_unless_newer(&written, Some(by)).await }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_newest_in_a_round_is_what_the_target_holds_for_newest() {
        let cases = [
            (Value::Double(f64::NAN), Value::Double(9.0)),
            (Value::Decimal(NOT_A_NUMBER), Value::Decimal(90)),
            (Value::Decimal(-1), Value::Null),
            (Value::Long(2), Value::Long(1)),
            (Value::Timestamp(i64::MAX), Value::Timestamp(0)),
        ];
        for (newer, older) in cases {
            assert_eq!(compare(newer, older), Ordering::Greater, "{newer:?}");
            assert_eq!(compare(older, newer), Ordering::Less, "{newer:?}");
            assert_eq!(compare(newer, newer), Ordering::Equal, "{newer:?}");
        }
    }
}

//! Single records of a topic by their places, where only a few of a round are needed once more.

use std::collections::HashMap;

use gonvel_core::naming::{Offset, TopicPartition};
use gonvel_core::ports::{PortError, TopicLog};
use gonvel_core::record::Record;

/// The records at these places, in the order given. A block is read once for all of its places that come one after the other.
///
/// # Errors
/// [`PortError::Damaged`] names a place without a record.
pub(crate) async fn records_at(log: &dyn TopicLog, places: &[(TopicPartition, i64)]) -> Result<Vec<Record>, PortError> {
    let mut out = Vec::with_capacity(places.len());
    let mut rest = places;
    while let Some(&(at, first)) = rest.first() {
        let gone = |offset: i64| PortError::Damaged {
            at,
            first_offset: offset,
            finding: "the record that was here is gone".into(),
        };
        let block = log.read(at, Offset(first), 1).await?.into_iter().next().ok_or_else(|| gone(first))?;
        let span = block.first.0..block.end().0;
        let here = rest.iter().take_while(|(place, offset)| *place == at && span.contains(offset)).count();
        let (now, later) = rest.split_at(here.max(1));
        let mut found: HashMap<i64, Option<Record>> = now.iter().map(|(_, offset)| (*offset, None)).collect();
        for record in block.open(at)?.records() {
            let (Offset(offset), record) = record?;
            if let Some(place) = found.get_mut(&offset) {
                *place = Some(record.to_record());
            }
        }
        for (_, offset) in now {
            out.push(found.get(offset).cloned().flatten().ok_or_else(|| gone(*offset))?);
        }
        rest = later;
    }
    Ok(out)
}

//! Records that were forgotten before they were delivered, where a connector goes on all the same: how many, and which.

use std::sync::PoisonError;

use gonvel_core::connector::{Failing, Forgotten};
use gonvel_core::ports::{Deed, Level, Topic};

use crate::failing::Failure;
use crate::reading::missed::PassedOver;
use crate::work::Work;

/// Where it is told what is passed over; none where a lane halts instead.
pub(crate) fn told(failing: &Failing) -> Option<PassedOver> {
    (failing.forgotten == Forgotten::PassOver).then(PassedOver::default)
}

/// Writes what was passed over into the connector's log and history.
pub(crate) async fn note(work: &Work<'_>, told: Option<&PassedOver>, topics: &[Topic]) -> Result<(), Failure> {
    let Some(told) = told else { return Ok(()) };
    let missed = std::mem::take(&mut *told.lock().unwrap_or_else(PoisonError::into_inner));
    for missed in missed {
        let name = topics.iter().find(|topic| topic.id == missed.at.topic).map_or("?", |topic| topic.name.as_str());
        let (records, partition) = (missed.to - missed.from, missed.at.partition.0);
        let facts = [
            ("topic", name.into()),
            ("partition", partition.into()),
            ("records", records.into()),
            ("from", missed.from.into()),
            ("to", (missed.to - 1).into()),
        ];
        work.board.say(Level::Warning, "records were forgotten before they were delivered, and passed over", facts);
        let detail = format!(
            "{records} records of partition {partition} of {name} were forgotten before they were delivered (offsets {} to {})",
            missed.from,
            missed.to - 1
        );
        let deed = Deed { connector: work.connector(), who: "", what: "passed over", detail: Some(&detail) };
        work.services.fleet.note_passed_over(deed, records).await?;
    }
    Ok(())
}

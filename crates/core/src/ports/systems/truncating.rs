//! A truncate of a topic whose partitions are shared out among lanes.

use std::collections::HashMap;

use chrono::DateTime;

use super::ConnectorError;
use crate::naming::TopicPartition;
use crate::truncate::Mark;

/// How a lane comes to a truncate.
#[derive(Debug)]
pub struct Comes<'c> {
    /// Its partitions that stand at it, each with the truncate's offset.
    pub at: &'c [(TopicPartition, i64)],
    /// All its partitions of the topic: those that do not stand at it have none such.
    pub own: &'c [i32],
    /// The offsets after the last record of other partitions, where one that has come to its end counts.
    pub ends: &'c HashMap<i32, i64>,
    /// How many partitions the topic has.
    pub partitions: i32,
}

/// What is found where a truncate would take away what came after it.
#[must_use]
pub fn ahead(partition: i32, mark: Mark) -> ConnectorError {
    let when = DateTime::from_timestamp_micros(mark.time_us)
        .map_or_else(String::new, |at| format!(" of {}", at.format("%F %T UTC")));
    ConnectorError::settings(
        None,
        format!(
            "a truncate{when} is due that partition {partition} does not have: it was delivered further already (it was added later, moved, or \
             its older records were forgotten), and the truncate would take away those rows"
        ),
        "move the partitions that stand at the truncate past it, then load the table again in its source, finding out what is gone",
    )
}

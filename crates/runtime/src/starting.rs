//! Where lanes begin that read topics.

use std::collections::HashMap;

use gonvel_core::civil::read_rfc3339;
use gonvel_core::connector::Start;
use gonvel_core::naming::{ConnectorId, Offset, PartitionId, TopicPartition};
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::ports::{PortError, Topic, TopicLog};

use crate::failing::Failure;
use crate::services::Services;
use crate::standing::stands;

/// Where the partitions begin of a sink that never delivered any; one that is not among them begins with its oldest record.
pub(crate) async fn first_offsets(
    services: &Services,
    start: Option<&Start>,
    topics: &[Topic],
) -> Result<HashMap<TopicPartition, i64>, Failure> {
    match start {
        None => Ok(HashMap::new()),
        Some(Start::Connector { connector }) => {
            let other = services.fleet.connector(ConnectorId(*connector)).await?;
            let Some(other) = other.filter(|o| o.definition().kind() == "sink") else {
                return Err(ConnectorError::settings(
                    Some("start"),
                    "the connector whose position is to be taken is not there, or is not a sink",
                    "choose another start",
                )
                .into());
            };
            Ok(stands(&*services.fleet, other.id(), other.definition()).await?)
        }
        Some(start) => offsets_at(&*services.log, start, topics).await,
    }
}

/// The offsets that a start means in each partition of topics; one that is not among them begins with its oldest record.
pub(crate) async fn offsets_at(
    log: &dyn TopicLog,
    start: &Start,
    topics: &[Topic],
) -> Result<HashMap<TopicPartition, i64>, Failure> {
    let mut out = HashMap::new();
    match start {
        Start::Offsets { offsets } => {
            for start in offsets {
                if let Some(topic) = topics.iter().find(|t| t.name.as_str() == start.topic) {
                    out.insert(TopicPartition { topic: topic.id, partition: PartitionId(start.partition) }, start.offset);
                }
            }
        }
        Start::Earliest {} | Start::Position { .. } | Start::Connector { .. } => {}
        Start::Latest {} | Start::Time { .. } => {
            let time = if let Start::Time { time } = start { read_rfc3339(time) } else { None };
            for topic in topics {
                for bounds in log.bounds(topic.id).await? {
                    let at = TopicPartition { topic: topic.id, partition: bounds.partition };
                    let offset = match time {
                        Some(time) => first_at(log, at, time).await?.unwrap_or(bounds.next.0),
                        None => bounds.next.0,
                    };
                    out.insert(at, offset);
                }
            }
        }
    }
    Ok(out)
}

/// The first record of a partition at a time or after it.
async fn first_at(log: &dyn TopicLog, at: TopicPartition, time_us: i64) -> Result<Option<i64>, PortError> {
    let mut from = log.block_at_time(at, time_us).await?;
    loop {
        let blocks = log.read(at, from, 1).await?;
        if blocks.is_empty() {
            return Ok(None);
        }
        for block in blocks {
            for record in block.open(at)?.records() {
                let (Offset(offset), record) = record?;
                if record.timestamp_us >= time_us {
                    return Ok(Some(offset));
                }
            }
            from = block.end();
        }
    }
}

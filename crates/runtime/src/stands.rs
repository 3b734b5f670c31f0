//! Where a lane stands that reads topics and whose position Gonvel keeps itself.

use std::collections::{BTreeMap, HashMap};

use gonvel_core::change::KindCounts;
use gonvel_core::naming::{PartitionId, TopicId, TopicPartition};
use gonvel_core::ports::LaneProgress;
use gonvel_core::ports::systems::{ConnectorError, Delivered};
use serde::{Deserialize, Serialize};

use crate::failing::Failure;
use crate::work::Work;

/// What is stored as the lane's position.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
struct Position {
    #[serde(default)]
    places: Vec<Place>,
    /// Numbers of records of the quarantine that went on with it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    retried: Vec<i64>,
    /// Up to where references were read, as far as rows were carried again for what they hold.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    followed: Vec<ReadTo>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
struct ReadTo {
    topic: i64,
    partition: i32,
    next: i64,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
struct Place {
    topic: i64,
    partition: i32,
    next: i64,
    #[serde(default)]
    counts: KindCounts,
}

/// Where a lane stands by its stored position.
pub(crate) fn positions(position: &serde_json::Value) -> HashMap<TopicPartition, i64> {
    let stored: Position = serde_json::from_value(position.clone()).unwrap_or_default();
    stored.places.iter().map(|p| (place(p), p.next)).collect()
}

/// A stored position with partitions moved from where they stand to other offsets; none if one stands elsewhere.
pub(crate) fn moved(position: &serde_json::Value, moves: &[(TopicPartition, i64, i64)]) -> Option<serde_json::Value> {
    let mut stored: Position = serde_json::from_value(position.clone()).ok()?;
    for (at, from, to) in moves {
        stored.places.iter_mut().find(|p| place(p) == *at && p.next == *from)?.next = *to;
    }
    serde_json::to_value(stored).ok()
}

fn place(place: &Place) -> TopicPartition {
    TopicPartition { topic: TopicId(place.topic), partition: PartitionId(place.partition) }
}

/// What a lane has done.
#[derive(Debug, Default)]
pub(crate) struct Stands {
    pub(crate) delivered: BTreeMap<TopicPartition, Delivered>,
    /// Numbers of records of the quarantine that went on, and are perhaps not noted there yet.
    pub(crate) retried: Vec<i64>,
    /// Up to where references were read, as far as rows were carried again for what they hold.
    pub(crate) followed: BTreeMap<TopicPartition, i64>,
}

impl Stands {
    /// As it is stored; nothing for null.
    pub(crate) fn read(stored: &serde_json::Value) -> Result<Self, Failure> {
        let unreadable = |e| ConnectorError::Defect(format!("the stored position cannot be read: {e}"));
        let stored: Position = match stored {
            position if position.is_null() => Position::default(),
            position => serde_json::from_value(position.clone()).map_err(unreadable)?,
        };
        let delivered = stored.places.iter().map(|p| (place(p), Delivered { next: p.next, counts: p.counts, last: None }));
        let at = |r: &ReadTo| TopicPartition { topic: TopicId(r.topic), partition: PartitionId(r.partition) };
        let followed = stored.followed.iter().map(|r| (at(r), r.next)).collect();
        Ok(Self { delivered: delivered.collect(), retried: stored.retried, followed })
    }

    /// What is stored with an append.
    pub(crate) fn progress(&self, work: &Work<'_>) -> Result<LaneProgress, Failure> {
        let position = self.stored()?;
        let (epoch, ground) = (work.lease.epoch, work.lease.ground);
        Ok(LaneProgress { connector: work.connector(), lane: work.lane(), epoch, position, ground })
    }

    /// As it is stored.
    pub(crate) fn stored(&self) -> Result<serde_json::Value, Failure> {
        let places = self.delivered.iter().map(|(at, d)| Place {
            topic: at.topic.0,
            partition: at.partition.0,
            next: d.next,
            counts: d.counts,
        });
        let read_to =
            |(at, next): (&TopicPartition, &i64)| ReadTo { topic: at.topic.0, partition: at.partition.0, next: *next };
        let followed = self.followed.iter().map(read_to).collect();
        let position = Position { places: places.collect(), retried: self.retried.clone(), followed };
        Ok(serde_json::to_value(position).map_err(|e| ConnectorError::Defect(e.to_string()))?)
    }
}

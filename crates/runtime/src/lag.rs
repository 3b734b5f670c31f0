//! How far a lane that delivers is behind the topics that it reads.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use gonvel_core::naming::{TopicId, TopicPartition};
use gonvel_core::ports::systems::Delivered;
use gonvel_core::ports::{PortError, TopicLog};
use tokio::time::Instant;

use crate::status::{Board, now_us};

/// How often the lag in records is counted while there is one.
pub(crate) const COUNT_LAG: Duration = Duration::from_secs(1);

/// What is known of a lane's lag.
#[derive(Default)]
pub(crate) struct Lag {
    counted: Option<Instant>,
}

impl Lag {
    /// Says that there is none.
    pub(crate) fn none(board: &Board) {
        board.write(|status| (status.lag_ms, status.lag_records) = (Some(0.0), Some(0)));
    }

    /// Says how old the latest change was when it was delivered and, now and then, how many records are still to come.
    pub(crate) async fn note(
        &mut self,
        board: &Board,
        log: &dyn TopicLog,
        delivered: &BTreeMap<TopicPartition, Delivered>,
        latest_us: Option<i64>,
    ) -> Result<(), PortError> {
        #[allow(clippy::cast_precision_loss, reason = "milliseconds for people")]
        let behind_ms = latest_us.map(|us| ((now_us() - us).max(0) as f64 / 100.0).round() / 10.0);
        if let Some(behind_ms) = behind_ms {
            board.write(|status| (status.latency_ms, status.lag_ms) = (Some(behind_ms), Some(behind_ms)));
        }
        if self.counted.is_some_and(|at| at.elapsed() < COUNT_LAG) {
            return Ok(());
        }
        self.counted = Some(Instant::now());
        let mut behind = 0;
        let topics: BTreeSet<TopicId> = delivered.keys().map(|at| at.topic).collect();
        for topic in topics {
            for bounds in log.bounds(topic).await? {
                // other lanes deliver the partitions that are not this one's
                let own = delivered.get(&TopicPartition { topic, partition: bounds.partition });
                behind += own.map_or(0, |own| bounds.next.0 - own.next);
            }
        }
        board.write(|status| {
            status.lag_records = Some(behind);
            if behind == 0 {
                status.lag_ms = Some(0.0);
            }
        });
        Ok(())
    }
}

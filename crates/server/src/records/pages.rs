//! Pages of records: how many are in one, and of several partitions in which order.

use gonvel_core::naming::PartitionId;
use gonvel_core::record::StoredRecord as Placed;
use gonvel_http_api::Order;

use crate::problems::Refusal;

/// Records that are given at once where it is not said how many: of a share that is read, of a partition as they come.
pub(super) const USUAL: usize = 50;

/// Records of several partitions together by their times. Each partition's own order is kept, whatever its times say.
pub fn merged(by_partition: Vec<(PartitionId, Vec<Placed>)>, order: Order, limit: usize) -> Vec<(PartitionId, Placed)> {
    let mut waiting: Vec<_> = by_partition.into_iter().map(|(p, records)| (p, records.into_iter().peekable())).collect();
    let mut out = Vec::new();
    while out.len() < limit {
        let heads =
            waiting.iter_mut().enumerate().filter_map(|(n, (_, records))| Some((records.peek()?.record.timestamp_us, n)));
        let next = match order {
            Order::Oldest => heads.min(),
            Order::Newest => heads.max(),
        };
        let Some((_, n)) = next else { break };
        let (partition, records) = &mut waiting[n];
        out.extend(records.next().map(|record| (*partition, record)));
    }
    out
}

/// How many records a request may ask for.
pub(crate) fn limit_of(asked: Option<usize>, most: usize) -> Result<usize, Refusal> {
    let limit = asked.unwrap_or(USUAL);
    if (1..=most).contains(&limit) {
        return Ok(limit);
    }
    Err(Refusal::invalid("limit", format!("a page of {limit} records: ask for 1 to {most}")))
}

//! Records of a topic: pages, streams, searches.

mod changes;
mod cursors;
pub(crate) mod decoding;
mod pages;
pub(crate) mod reading;
mod searching;
mod streaming;

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::Json;
use axum::extract::State;
use bytes::Bytes;
use gonvel_core::naming::{Offset, PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{PartitionBounds, Topic, TopicLog};
use gonvel_core::record::StoredRecord as Placed;
use gonvel_http_api::{LARGEST_RECORD_PAGE, Order, Page, Problem, Record, RecordPagingQuery, RecordsQuery};

use self::reading::{asked_time, backward, begin, chosen, forward, has_key, keys_of, offset_has_partition, partitions_of};
use crate::listing::Listed;
use crate::problems::{Path, Refusal};
use crate::state::ServerState;

pub(crate) use self::changes::{NewestChanges, NoChanges, newest_changes};
pub(crate) use self::cursors::begun_again;
pub(crate) use self::decoding::Decoder;
pub(crate) use self::pages::limit_of;
pub use self::pages::merged;
pub(crate) use self::reading::Newest;
pub(crate) use searching::*;
pub(crate) use streaming::*;

pub(crate) const MOST: usize = 500;
/// Longest wait for a record.
const LONGEST_WAIT_MS: u64 = 30_000;
/// Records looked at in one go for those of a key.
const LOOKED_AT: usize = 5_000;

/// How long a request may wait.
pub(crate) fn wait_of(asked: Option<u64>) -> Result<Duration, Refusal> {
    let wait = asked.unwrap_or(0);
    if wait <= LONGEST_WAIT_MS {
        return Ok(Duration::from_millis(wait));
    }
    Err(Refusal::invalid(
        "wait_ms",
        format!("{wait} ms is longer than a request may wait: ask for {LONGEST_WAIT_MS} at most"),
    ))
}

/// What a page is made of.
struct Asked {
    topic: Topic,
    order: Order,
    offset: Option<i64>,
    time_us: Option<i64>,
    /// Where each partition goes on, on a later page: the offset that is read next, or back from.
    from: Option<BTreeMap<i32, i64>>,
    limit: usize,
    keys: Option<Vec<Bytes>>,
}

impl Asked {
    fn partitions(&self) -> usize {
        usize::try_from(self.topic.partitions).unwrap_or(0)
    }

    /// Where a partition is read from.
    async fn start(&self, state: &ServerState, bounds: &PartitionBounds) -> Result<i64, Refusal> {
        if let Some(from) = &self.from {
            // one that came since holds only what is newer than the first page
            let came = if self.order == Order::Oldest { 0 } else { -1 };
            return Ok(from.get(&bounds.partition.0).copied().unwrap_or(came));
        }
        let at = TopicPartition { topic: self.topic.id, partition: bounds.partition };
        let start = begin(state, at, bounds, self.offset, self.time_us).await?;
        Ok(start.unwrap_or(match self.order {
            Order::Oldest => bounds.first.0,
            Order::Newest => bounds.next.0 - 1,
        }))
    }

    async fn of_partition(&self, state: &ServerState, bounds: &PartitionBounds, start: i64) -> Result<Vec<Placed>, Refusal> {
        let at = TopicPartition { topic: self.topic.id, partition: bounds.partition };
        let Some(keys) = &self.keys else {
            return Ok(match self.order {
                Order::Oldest => forward(state, at, start, self.limit).await?,
                Order::Newest => backward(state, at, bounds, start, self.limit).await?,
            });
        };
        let mut out = Vec::new();
        let mut place = start;
        while out.len() < self.limit {
            let some = match self.order {
                Order::Oldest => forward(state, at, place, LOOKED_AT).await?,
                Order::Newest => backward(state, at, bounds, place, LOOKED_AT).await?,
            };
            let Some(last) = some.last() else { break };
            place = last.offset.0 + if self.order == Order::Oldest { 1 } else { -1 };
            out.extend(some.into_iter().filter(|r| has_key(r, keys)));
        }
        out.truncate(self.limit);
        Ok(out)
    }
}

/// A page of records.
#[utoipa::path(operation_id = "readRecords", get, path = "/api/v1/topics/{name}/records", tag = "records", params(RecordsQuery, RecordPagingQuery),
    responses((status = 200, body = Page<Record>), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn page(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Listed { which: query, paging }: Listed<RecordsQuery, LARGEST_RECORD_PAGE>,
) -> Result<Json<Page<Record>>, Refusal> {
    let topic = state.database.topic(&TopicName::parse(name)?).await?;
    let limit = paging.limit;
    let from: Option<BTreeMap<i32, i64>> = paging.after()?;
    let deadline = Instant::now() + wait_of(query.wait_ms)?;
    offset_has_partition(&topic, query.offset, query.partition)?;
    let time_us = asked_time("time", query.time.as_ref())?;
    let keys = match &query.key {
        Some(text) => Some(keys_of(&state, &topic, text).await?),
        None => None,
    };
    let mut asked = Asked { topic, order: query.order, offset: query.offset, time_us, from, limit, keys };
    loop {
        let mut bounds = chosen(&state, &asked.topic, query.partition).await?;
        if let (Some(keys), None) = (&asked.keys, query.partition) {
            let partitions = partitions_of(keys, &asked.topic);
            bounds.retain(|b| partitions.contains(&b.partition.0));
        }
        let mut by_partition: Vec<(PartitionId, Vec<Placed>)> = Vec::new();
        let mut places = BTreeMap::new();
        for bounds in &bounds {
            let start = asked.start(&state, bounds).await?;
            places.insert(bounds.partition.0, start);
            by_partition.push((bounds.partition, asked.of_partition(&state, bounds, start).await?));
        }
        let found = merged(by_partition, query.order, limit);
        let left = deadline.saturating_duration_since(Instant::now());
        if found.is_empty() && query.order == Order::Oldest && !left.is_zero() {
            let ends: Vec<(TopicPartition, Offset)> =
                bounds.iter().map(|b| (TopicPartition { topic: asked.topic.id, partition: b.partition }, b.next)).collect();
            // partitions that come meanwhile are not among these
            while state.database.bounds(asked.topic.id).await?.len() == asked.partitions() {
                let left = deadline.saturating_duration_since(Instant::now());
                if left.is_zero() {
                    break;
                }
                state.database.wait_for(&ends, left.min(streaming::LOOK)).await?;
                if state.database.may_have(&ends).contains(&true) {
                    break;
                }
            }
            asked.topic = state.database.topic(&asked.topic.name).await?;
            continue;
        }
        for (partition, placed) in &found {
            places.insert(partition.0, placed.offset.0 + if query.order == Order::Oldest { 1 } else { -1 });
        }
        let more = bounds.iter().any(|b| match query.order {
            Order::Oldest => places[&b.partition.0] < b.next.0,
            Order::Newest => places[&b.partition.0] >= b.first.0,
        });
        let waits = query.order == Order::Oldest && query.wait_ms.is_some();
        let next = (waits || found.len() == limit && more).then(|| paging.cursor(&places));
        let mut decoder = Decoder::new(query.raw);
        for (_, placed) in &found {
            decoder.learn(&state, placed).await?;
        }
        let items = found.iter().map(|(partition, placed)| decoder.present(*partition, placed)).collect();
        return Ok(Json(Page { items, next }));
    }
}

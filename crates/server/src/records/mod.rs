//! Records of a topic: pages, streams, searches.

mod changes;
pub(crate) mod decoding;
mod pages;
pub(crate) mod reading;
mod searching;
mod streaming;

use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::Json;
use axum::extract::State;
use bytes::Bytes;
use gonvel_core::naming::{Offset, PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{PartitionBounds, Topic, TopicLog};
use gonvel_core::record::StoredRecord as Placed;
use gonvel_http_api::{Order, Problem, Records, RecordsQuery};

use self::reading::{asked_time, backward, begin, chosen, forward, has_key, keys_of, offset_has_partition, partitions_of};
use crate::problems::{Path, Query, Refusal};
use crate::state::ServerState;

pub(crate) use self::changes::{NewestChanges, NoChanges, newest_changes};
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
    limit: usize,
    keys: Option<Vec<Bytes>>,
}

impl Asked {
    fn partitions(&self) -> usize {
        usize::try_from(self.topic.partitions).unwrap_or(0)
    }

    async fn of_partition(&self, state: &ServerState, bounds: &PartitionBounds) -> Result<Vec<Placed>, Refusal> {
        let at = TopicPartition { topic: self.topic.id, partition: bounds.partition };
        let start = begin(state, at, bounds, self.offset, self.time_us).await?;
        let Some(keys) = &self.keys else {
            return Ok(match self.order {
                Order::Oldest => forward(state, at, start.unwrap_or(bounds.first.0), self.limit).await?,
                Order::Newest => backward(state, at, bounds, start.unwrap_or(bounds.next.0 - 1), self.limit).await?,
            });
        };
        let mut out = Vec::new();
        let mut place = start.unwrap_or(match self.order {
            Order::Oldest => bounds.first.0,
            Order::Newest => bounds.next.0 - 1,
        });
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
#[utoipa::path(operation_id = "readRecords", get, path = "/api/v1/topics/{name}/records", tag = "records", params(RecordsQuery),
    responses((status = 200, body = Records), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn page(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Query(query): Query<RecordsQuery>,
) -> Result<Json<Records>, Refusal> {
    let topic = state.database.topic(&TopicName::parse(name)?).await?;
    let limit = limit_of(query.limit, MOST)?;
    let deadline = Instant::now() + wait_of(query.wait_ms)?;
    offset_has_partition(&topic, query.offset, query.partition)?;
    let time_us = asked_time("time", query.time.as_ref())?;
    let keys = match &query.key {
        Some(text) => Some(keys_of(&state, &topic, text).await?),
        None => None,
    };
    let mut asked = Asked { topic, order: query.order, offset: query.offset, time_us, limit, keys };
    loop {
        let mut bounds = chosen(&state, &asked.topic, query.partition).await?;
        if let (Some(keys), None) = (&asked.keys, query.partition) {
            let partitions = partitions_of(keys, &asked.topic);
            bounds.retain(|b| partitions.contains(&b.partition.0));
        }
        let mut by_partition: Vec<(PartitionId, Vec<Placed>)> = Vec::new();
        for bounds in &bounds {
            by_partition.push((bounds.partition, asked.of_partition(&state, bounds).await?));
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
        let single = bounds.len() == 1;
        let next_offset = found.last().filter(|_| single && found.len() == limit).map(|(_, r)| match query.order {
            Order::Oldest => r.offset.0 + 1,
            Order::Newest => r.offset.0 - 1,
        });
        let next_offset = next_offset.filter(|next| *next >= bounds[0].first.0);
        let mut decoder = Decoder::new(query.raw);
        for (_, placed) in &found {
            decoder.learn(&state, placed).await?;
        }
        let records = found.iter().map(|(partition, placed)| decoder.present(*partition, placed)).collect();
        return Ok(Json(Records { records, next_offset }));
    }
}

//! Records of a topic: pages and the live tail.

use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::response::sse::{Event, KeepAlive, Sse};
use chrono::DateTime;
use futures::{Stream, StreamExt, stream};
use gonvel_core::avro::binary::Reader;
use gonvel_core::avro::{json, single_object};
use gonvel_core::block::UnpackedBlock;
use gonvel_core::civil::rfc3339;
use gonvel_core::naming::{Offset, PartitionId, SchemaId, TopicName, TopicPartition};
use gonvel_core::ports::{PartitionBounds, PortError, StoredBlock, Topic, TopicLog};
use gonvel_core::record::{Record as StoredRecord, StoredRecord as Placed};
use gonvel_http_api::{Order, Problem, Record, RecordHeader, Records, RecordsQuery};
use serde_json::Value;

use crate::problems::Refusal;
use crate::state::ServerState;

const USUAL: usize = 50;
const MOST: usize = 500;
const READ_BYTES: i64 = 1 << 20;

fn unpack(at: TopicPartition, block: &StoredBlock) -> Result<Vec<Placed>, PortError> {
    let damaged =
        |e: gonvel_core::block::BlockError| PortError::Damaged { at, first_offset: block.first.0, finding: e.to_string() };
    let unpacked = UnpackedBlock::open(&block.body).map_err(damaged)?;
    (block.first.0..)
        .zip(unpacked.records())
        .map(|(offset, record)| Ok(Placed { offset: Offset(offset), record: record.map_err(damaged)?.to_record() }))
        .collect()
}

/// Records from an offset on, in order.
async fn forward(state: &ServerState, at: TopicPartition, from: i64, limit: usize) -> Result<Vec<Placed>, PortError> {
    let mut out = Vec::new();
    let mut next = from;
    while out.len() < limit {
        let blocks = state.database.read(at, Offset(next), READ_BYTES).await?;
        if blocks.is_empty() {
            break;
        }
        for block in &blocks {
            out.extend(unpack(at, block)?.into_iter().filter(|r| r.offset.0 >= next));
            next = block.end().0;
        }
    }
    out.truncate(limit);
    Ok(out)
}

/// Records up to an offset (with it), the latest first.
async fn backward(
    state: &ServerState,
    at: TopicPartition,
    bounds: &PartitionBounds,
    last: i64,
    limit: usize,
) -> Result<Vec<Placed>, PortError> {
    let mut out: Vec<Placed> = Vec::new();
    let mut last = last.min(bounds.next.0 - 1);
    while out.len() < limit && last >= bounds.first.0 {
        // the block that holds `last`, and with it its neighbours before
        let block = state.database.read(at, Offset(last), 1).await?.into_iter().next();
        let Some(block) = block else { break };
        let mut records = unpack(at, &block)?;
        records.retain(|r| r.offset.0 <= last);
        records.reverse();
        out.extend(records);
        last = block.first.0 - 1;
    }
    out.truncate(limit);
    Ok(out)
}

async fn decoded(state: &ServerState, bytes: Option<&[u8]>, schema: Option<SchemaId>) -> Result<Value, PortError> {
    let Some(bytes) = bytes else { return Ok(Value::Null) };
    if let (Some(id), Some((_, data))) = (schema, single_object::split(bytes))
        && let Some(schema) = state.schema(id).await?
        && let Ok(value) = json::read(&schema, &mut Reader::new(data))
    {
        return Ok(value);
    }
    Ok(match std::str::from_utf8(bytes) {
        Ok(text) => serde_json::from_str(text).unwrap_or_else(|_| text.into()),
        Err(_) => bytes.iter().fold(String::from("\\x"), |text, byte| format!("{text}{byte:02x}")).into(),
    })
}

async fn present(state: &ServerState, partition: PartitionId, placed: Placed) -> Result<Record, PortError> {
    let record: StoredRecord = placed.record;
    let headers = record
        .headers
        .iter()
        .map(|h| RecordHeader { name: h.name.clone(), value: String::from_utf8_lossy(&h.value).into_owned() });
    Ok(Record {
        partition: partition.0,
        offset: placed.offset.0,
        timestamp: rfc3339(record.timestamp_us),
        headers: headers.collect(),
        schema: record.schema.map(|s| s.0),
        bytes: record.key.as_ref().map_or(0, bytes::Bytes::len) + record.value.as_ref().map_or(0, bytes::Bytes::len),
        key: decoded(state, record.key.as_deref(), record.key_schema).await?,
        value: decoded(state, record.value.as_deref(), record.schema).await?,
    })
}

/// The offset of the first record at or after a time.
async fn offset_at(state: &ServerState, at: TopicPartition, time_us: i64) -> Result<i64, PortError> {
    let start = state.database.block_at_time(at, time_us).await?;
    for block in state.database.read(at, start, 1).await? {
        for placed in unpack(at, &block)? {
            if placed.record.timestamp_us >= time_us {
                return Ok(placed.offset.0);
            }
        }
    }
    Ok(start.0)
}

async fn chosen(state: &ServerState, topic: &Topic, partition: Option<i32>) -> Result<Vec<PartitionBounds>, Refusal> {
    let mut bounds = state.database.bounds(topic.id).await?;
    if let Some(wanted) = partition {
        bounds.retain(|b| b.partition.0 == wanted);
        if bounds.is_empty() {
            let last = topic.partitions - 1;
            return Err(Refusal::invalid(
                "partition",
                format!("{} has no partition {wanted}: give one from 0 to {last}", topic.name),
            ));
        }
    }
    Ok(bounds)
}

/// Records of several partitions together by their times. Each partition's own order is kept, whatever its times say.
fn merged(by_partition: Vec<(PartitionId, Vec<Placed>)>, order: Order, limit: usize) -> Vec<(PartitionId, Placed)> {
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

/// A page of records.
#[utoipa::path(operation_id = "readRecords", get, path = "/api/v1/topics/{name}/records", tag = "topics", params(RecordsQuery),
    responses((status = 200, body = Records), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn page(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Query(query): Query<RecordsQuery>,
) -> Result<Json<Records>, Refusal> {
    let topic = state.database.topic(&TopicName::parse(name)?).await?;
    let limit = query.limit.unwrap_or(USUAL);
    if !(1..=MOST).contains(&limit) {
        return Err(Refusal::invalid("limit", format!("a page of {limit} records: ask for 1 to {MOST}")));
    }
    if query.offset.is_some() && query.partition.is_none() && topic.partitions > 1 {
        return Err(Refusal::invalid("offset", "offsets are counted in each partition: name the partition as well"));
    }
    let time_us = match &query.time {
        None => None,
        Some(text) => Some(DateTime::parse_from_rfc3339(text).map(|t| t.timestamp_micros()).map_err(|e| {
            Refusal::invalid("time", format!("{text:?} is not a time ({e}): write it like 2026-11-24T09:30:00Z"))
        })?),
    };
    let mut by_partition: Vec<(PartitionId, Vec<Placed>)> = Vec::new();
    for bounds in chosen(&state, &topic, query.partition).await? {
        let at = TopicPartition { topic: topic.id, partition: bounds.partition };
        if let Some(offset) = query.offset
            && !(bounds.first.0..=bounds.next.0).contains(&offset)
        {
            let detail = format!(
                "offset {offset} is not kept: partition {} holds {} to {}",
                bounds.partition.0,
                bounds.first.0,
                bounds.next.0 - 1
            );
            return Err(Refusal::invalid("offset", detail));
        }
        let start = match (query.offset, time_us) {
            (Some(offset), _) => Some(offset),
            (None, Some(time_us)) => Some(offset_at(&state, at, time_us).await?),
            (None, None) => None,
        };
        let records = match query.order {
            Order::Oldest => forward(&state, at, start.unwrap_or(bounds.first.0), limit).await?,
            Order::Newest => backward(&state, at, &bounds, start.unwrap_or(bounds.next.0 - 1), limit).await?,
        };
        by_partition.push((bounds.partition, records));
    }
    let found = merged(by_partition, query.order, limit);
    let single = query.partition.is_some() || topic.partitions == 1;
    let next_offset = found.last().filter(|_| single && found.len() == limit).map(|(_, r)| match query.order {
        Order::Oldest => r.offset.0 + 1,
        Order::Newest => r.offset.0 - 1,
    });
    let mut records = Vec::with_capacity(found.len());
    for (partition, placed) in found {
        records.push(present(&state, partition, placed).await?);
    }
    Ok(Json(Records { records, next_offset: next_offset.filter(|&o| o >= 0) }))
}

/// Records as they are appended from now on: events named `records` whose data is a JSON list. A slow reader is skipped ahead,
/// and told how many records it did not get by an event named `skipped`.
#[utoipa::path(operation_id = "tailRecords", get, path = "/api/v1/topics/{name}/tail", tag = "topics",
    responses((status = 200, content_type = "text/event-stream", body = [Record]), (status = 404, body = Problem)))]
pub(crate) async fn tail(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, Refusal> {
    let topic = state.database.topic(&TopicName::parse(name)?).await?;
    let places = state.database.bounds(topic.id).await?;
    let places: Vec<(TopicPartition, Offset)> =
        places.iter().map(|b| (TopicPartition { topic: topic.id, partition: b.partition }, b.next)).collect();
    let events = stream::unfold((state, places), |(state, mut places)| async move {
        loop {
            state.database.wait_for(&places, Duration::from_millis(500)).await.ok()?;
            let (records, skipped) = fresh(&state, &mut places).await.ok()?;
            if !records.is_empty() {
                let mut events = vec![Event::default().event("records").json_data(&records).unwrap_or_default()];
                if skipped > 0 {
                    events.push(Event::default().event("skipped").data(skipped.to_string()));
                }
                // a picture for people: a few updates a second are enough
                tokio::time::sleep(Duration::from_millis(150)).await;
                return Some((stream::iter(events.into_iter().map(Ok)), (state, places)));
            }
        }
    });
    Ok(Sse::new(events.flatten()).keep_alive(KeepAlive::default()))
}

/// The latest records since the places, which move to the end; and how many more there were.
async fn fresh(state: &ServerState, places: &mut [(TopicPartition, Offset)]) -> Result<(Vec<Record>, i64), PortError> {
    let Some((first, _)) = places.first() else { return Ok((Vec::new(), 0)) };
    let bounds = state.database.bounds(first.topic).await?;
    let (mut by_partition, mut skipped) = (Vec::with_capacity(places.len()), 0);
    for ((at, next), bounds) in places.iter_mut().zip(&bounds) {
        let new = bounds.next.0 - next.0;
        let shown = new.min(i64::try_from(USUAL).unwrap_or(i64::MAX));
        skipped += new - shown;
        let mut newest = forward(state, *at, bounds.next.0 - shown, usize::try_from(shown).unwrap_or(0)).await?;
        newest.reverse();
        by_partition.push((at.partition, newest));
        *next = bounds.next;
    }
    let mut records = Vec::new();
    for (partition, placed) in merged(by_partition, Order::Newest, usize::MAX) {
        records.push(present(state, partition, placed).await?);
    }
    Ok((records, skipped))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn partition(times: &[i64]) -> Vec<Placed> {
        let placed = |(offset, &timestamp_us): (i64, &i64)| Placed {
            offset: Offset(offset),
            record: StoredRecord { timestamp_us, ..StoredRecord::default() },
        };
        (0..).zip(times).map(placed).collect()
    }

    #[test]
    fn partitions_are_merged_by_time_and_each_keeps_its_own_order() {
        let both = || vec![(PartitionId(0), partition(&[10, 5, 30])), (PartitionId(1), partition(&[7, 20]))];
        let places = |order, limit| -> Vec<(i32, i64)> {
            merged(both(), order, limit).iter().map(|(p, r)| (p.0, r.offset.0)).collect()
        };
        // offset 1 of partition 0 has an earlier time than offset 0 and still comes after it
        assert_eq!(places(Order::Oldest, 9), [(1, 0), (0, 0), (0, 1), (1, 1), (0, 2)]);
        assert_eq!(places(Order::Newest, 3), [(0, 0), (1, 0), (1, 1)]);
        assert_eq!(places(Order::Oldest, 2), [(1, 0), (0, 0)]);
    }
}

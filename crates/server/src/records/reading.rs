//! Reading records out of blocks, forward and back.

use bytes::Bytes;
use gonvel_core::avro::single_object;
use gonvel_core::naming::{Offset, PartitionId, TopicId, TopicPartition};
use gonvel_core::partitioning;
use gonvel_core::ports::{PartitionBounds, PortError, StoredBlock, Topic, TopicLog};
use gonvel_core::produce::time;
use gonvel_core::record::StoredRecord as Placed;
use gonvel_core::schemas::values::ValueSchema;

use crate::problems::Refusal;
use crate::state::ServerState;

pub(super) const READ_BYTES: i64 = 1 << 20;

pub(crate) fn unpack(at: TopicPartition, block: &StoredBlock) -> Result<Vec<Placed>, PortError> {
    let open = block.open(at)?;
    open.records().map(|r| r.map(|(offset, record)| Placed { offset, record: record.to_record() })).collect()
}

/// Records from an offset on, in order.
pub(super) async fn forward(
    state: &ServerState,
    at: TopicPartition,
    from: i64,
    limit: usize,
) -> Result<Vec<Placed>, PortError> {
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
pub(crate) async fn backward(
    state: &ServerState,
    at: TopicPartition,
    bounds: &PartitionBounds,
    last: i64,
    limit: usize,
) -> Result<Vec<Placed>, PortError> {
    let mut out: Vec<Placed> = Vec::new();
    let mut last = last.min(bounds.next.0 - 1);
    while out.len() < limit && last >= bounds.first.0 {
        let Some(block) = state.database.read_back(at, Offset(last)).await? else { break };
        out.extend(unpack(at, &block)?.into_iter().rev().filter(|r| r.offset.0 <= last));
        last = block.first.0 - 1;
    }
    out.truncate(limit);
    Ok(out)
}

/// A topic's newest records in pieces, partition by partition, the latest of each first: no more is held at once than a piece,
/// and not more is read in all than a number of records and of bytes.
pub(crate) struct Newest {
    topic: TopicId,
    /// The partitions left, each with the offset that is read up to.
    left: Vec<(PartitionBounds, i64)>,
    /// Records that each partition gives at most, and those that the first one left still may.
    each: usize,
    records_left: usize,
    bytes_left: usize,
}

/// Records of a piece.
const PIECE: usize = 500;
/// Bytes of keys and values read at most.
const NEWEST_BYTES: usize = 64 << 20;

impl Newest {
    /// `each` records at most of every partition.
    pub(crate) async fn of_each(state: &ServerState, topic: TopicId, each: usize) -> Result<Self, PortError> {
        let left: Vec<_> = state.database.bounds(topic).await?.into_iter().map(|b| (b, b.next.0 - 1)).rev().collect();
        Ok(Self { topic, left, each, records_left: each, bytes_left: NEWEST_BYTES })
    }

    /// About so many records in all, as many of each partition.
    pub(crate) async fn of(state: &ServerState, topic: &Topic, records: usize) -> Result<Self, PortError> {
        let partitions = usize::try_from(topic.partitions).unwrap_or(1).max(1);
        Self::of_each(state, topic.id, records.div_ceil(partitions)).await
    }

    /// The next piece and its partition; none at the end.
    pub(crate) async fn piece(&mut self, state: &ServerState) -> Result<Option<(PartitionId, Vec<Placed>)>, PortError> {
        while let Some((bounds, last)) = self.left.last_mut() {
            let wanted = self.records_left.min(PIECE);
            let at = TopicPartition { topic: self.topic, partition: bounds.partition };
            let found = match wanted {
                0 => Vec::new(),
                wanted => backward(state, at, bounds, *last, wanted).await?,
            };
            if let Some(earliest) = found.last() {
                *last = earliest.offset.0 - 1;
                let size = |part: &Option<Bytes>| part.as_ref().map_or(0, Bytes::len);
                let bytes: usize = found.iter().map(|p| size(&p.record.key) + size(&p.record.value)).sum();
                self.bytes_left = self.bytes_left.saturating_sub(bytes);
                self.records_left -= found.len();
                if self.bytes_left == 0 {
                    self.left.clear();
                }
                return Ok(Some((at.partition, found)));
            }
            self.left.pop();
            self.records_left = self.each;
        }
        Ok(None)
    }
}

/// The offset of the first record at or after a time.
pub(crate) async fn offset_at(state: &ServerState, at: TopicPartition, time_us: i64) -> Result<i64, PortError> {
    let mut next = state.database.block_at_time(at, time_us).await?;
    loop {
        let blocks = state.database.read(at, next, 1).await?;
        if blocks.is_empty() {
            return Ok(next.0);
        }
        for block in &blocks {
            if let Some(found) = unpack(at, block)?.iter().find(|r| r.record.timestamp_us >= time_us) {
                return Ok(found.offset.0);
            }
            next = block.end();
        }
    }
}

/// The bounds of the partition asked for, or of all.
pub(crate) async fn chosen(
    state: &ServerState,
    topic: &Topic,
    partition: Option<i32>,
) -> Result<Vec<PartitionBounds>, Refusal> {
    let mut bounds = state.database.bounds(topic.id).await?;
    if let Some(wanted) = partition {
        bounds.retain(|b| b.partition.0 == wanted);
        if bounds.is_empty() {
            let last = topic.partitions - 1;
            let detail = format!("{} has no partition {wanted}: give one from 0 to {last}", topic.name);
            return Err(Refusal::invalid("partition", detail));
        }
    }
    Ok(bounds)
}

/// Refuses an offset that is not kept.
pub(crate) fn kept(bounds: &PartitionBounds, offset: i64) -> Result<(), Refusal> {
    if (bounds.first.0..=bounds.next.0).contains(&offset) {
        return Ok(());
    }
    let (partition, first, next) = (bounds.partition.0, bounds.first.0, bounds.next.0);
    let what = if offset < first { "is forgotten already" } else { "is past the end" };
    let holds = if first == next { "holds no record".to_owned() } else { format!("holds {first} to {}", next - 1) };
    Err(Refusal::invalid(
        "offset",
        format!("offset {offset} {what}: partition {partition} {holds}, and {next} is where the next record goes"),
    ))
}

/// Refuses an offset that no record was read up to: what was read may be forgotten since.
pub(crate) fn read_up_to(bounds: &PartitionBounds, offset: i64) -> Result<(), Refusal> {
    if (0..bounds.first.0).contains(&offset) { Ok(()) } else { kept(bounds, offset) }
}

/// Where to begin in a partition, if an offset or a time is asked for; the offset counts where both are.
pub(crate) async fn begin(
    state: &ServerState,
    at: TopicPartition,
    bounds: &PartitionBounds,
    offset: Option<i64>,
    time_us: Option<i64>,
) -> Result<Option<i64>, Refusal> {
    match (offset, time_us) {
        (Some(offset), _) => kept(bounds, offset).map(|()| Some(offset)),
        (None, Some(time_us)) => Ok(Some(offset_at(state, at, time_us).await?)),
        (None, None) => Ok(None),
    }
}

/// A time of a request.
pub(crate) fn asked_time(field: &str, text: Option<&String>) -> Result<Option<i64>, Refusal> {
    text.map(|text| time(text).map_err(|detail| Refusal::invalid(field, detail))).transpose()
}

/// Offsets without a partition mean something only where there is one partition.
pub(crate) fn offset_has_partition(topic: &Topic, offset: Option<i64>, partition: Option<i32>) -> Result<(), Refusal> {
    if offset.is_some() && partition.is_none() && topic.partitions > 1 {
        return Err(Refusal::invalid("offset", "offsets are counted in each partition: name the partition as well"));
    }
    Ok(())
}

/// The bytes that a key written as text may have: the text itself, and what the topic's key schemas make of it.
pub(super) async fn keys_of(state: &ServerState, topic: &Topic, text: &str) -> Result<Vec<Bytes>, PortError> {
    let mut keys = vec![Bytes::copy_from_slice(text.as_bytes())];
    let json = serde_json::from_str(text).unwrap_or_else(|_| serde_json::Value::from(text));
    let as_text = serde_json::Value::from(text);
    for version in state.database.schemas_of(&topic.name).await?.iter().filter(|v| v.role == "key") {
        let Ok(schema) = ValueSchema::new(version.language, &version.text) else { continue };
        for value in [&json, &as_text] {
            if let Ok(key) = schema.write(value) {
                // a key belongs where its data says, whatever version wrote it
                let data = single_object::split(&key).map_or(key.clone(), |(_, data)| key.slice_ref(data));
                keys.push(data);
            }
        }
    }
    keys.dedup();
    Ok(keys)
}

/// Whether a record's key is one of these, whatever version of a schema wrote it.
pub(super) fn has_key(placed: &Placed, keys: &[Bytes]) -> bool {
    placed.record.key.as_ref().is_some_and(|key| {
        let data = single_object::split(key).map_or(&key[..], |(_, data)| data);
        keys.iter().any(|k| k == data)
    })
}

/// The partitions that records of keys may be in.
pub(super) fn partitions_of(keys: &[Bytes], topic: &Topic) -> Vec<i32> {
    partitioning::partitions_of(keys, topic.partitions, topic.scattered)
}

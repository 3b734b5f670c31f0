//! Appending 1,000-record batches, each with its own answer after the commit, against `COPY` of one row per record.

use std::sync::Arc;
use std::time::Instant;

use bytes::Bytes;
use futures::{SinkExt, StreamExt};
use gonvel_core::block::pack;
use gonvel_core::naming::{PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, PartitionBlocks, TopicLog};
use gonvel_core::record::Record;
use gonvel_core::topic_settings::TopicSettings;

use crate::report::{Measured, median};
use crate::world::{Outcome, World};

const BATCH: usize = 1_000;
const BATCHES: usize = 1_000;
/// Batches that the producer sends before it has the answer to the first.
const IN_FLIGHT: usize = 16;
const ROUNDS: usize = 3;

/// A record of about 160 bytes, as an application would send it.
pub fn record(n: usize) -> Record {
    let value = format!(
        r#"{{"room":{},"reading":{},"temperature_c":{}.{:02},"humidity":{}.{},"door":"{}","sensor":"cold-{:05}","note":"averling {:x}"}}"#,
        n % 60,
        n,
        n * 31 % 9,
        n * 7919 % 100,
        80 + n * 17 % 20,
        n % 10,
        if n.is_multiple_of(37) { "open" } else { "closed" },
        n * 104_729 % 100_000,
        (n as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15),
    );
    Record {
        key: Some(Bytes::from(format!("room-{}", n % 60))),
        value: Some(value.into()),
        timestamp_us: 1_793_000_000_000_000 + n as i64 * 1000,
        ..Record::default()
    }
}

pub async fn run() -> Outcome<Measured> {
    let world = World::start(&[]).await?;
    let records: Arc<Vec<Record>> = Arc::new((0..BATCH * BATCHES).map(record).collect());
    let size =
        records.iter().map(|r| r.key.as_ref().map_or(0, Bytes::len) + r.value.as_ref().map_or(0, Bytes::len)).sum::<usize>()
            / records.len();
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for round in 0..ROUNDS {
        theirs.push(copied(&world, &records, round).await?);
        ours.push(appended(&world, &records, round).await?);
    }
    let (ours, theirs) = (median(ours), median(theirs));
    Ok(Measured {
        name: "append",
        what: "1,000-record batches appended durably, at most 16 not yet answered, against one `COPY` of one row per record into a table without an index",
        ratio: ours / theirs,
        goal: 4.0,
        detail: format!("{ours:.0} records/s against {theirs:.0}; {size} bytes a record, packing included"),
    })
}

pub async fn appended(world: &World, records: &Arc<Vec<Record>>, round: usize) -> Outcome<f64> {
    let topic = world
        .database
        .create_topic(&TopicName::parse(format!("coldstore.readings.{round}"))?, 1, &TopicSettings::default())
        .await?;
    let to = TopicPartition { topic: topic.id, partition: PartitionId(0) };
    let start = Instant::now();
    let packed = futures::stream::iter(0..BATCHES).map(|number| {
        let records = records.clone();
        tokio::task::spawn_blocking(move || pack(&records[number * BATCH..(number + 1) * BATCH]))
    });
    let mut appends = packed
        .buffered(4)
        .map(|blocks| async {
            let parts = vec![PartitionBlocks { to, blocks: blocks? }];
            world.database.append(AppendBatch { parts, ..AppendBatch::default() }).await?;
            Ok::<_, Box<dyn std::error::Error>>(())
        })
        .buffered(IN_FLIGHT);
    while let Some(done) = appends.next().await {
        done?;
    }
    Ok(records.len() as f64 / start.elapsed().as_secs_f64())
}

async fn copied(world: &World, records: &[Record], round: usize) -> Outcome<f64> {
    let client = world.connect("gonvel").await?;
    client
        .batch_execute(&format!(
            "CREATE TABLE rows_{round} (record_offset bigint, key bytea, value bytea, headers jsonb, timestamp_us bigint, schema bigint)"
        ))
        .await?;
    let hex = |bytes: &[u8], out: &mut Vec<u8>| {
        out.extend_from_slice(b"\\\\x");
        for byte in bytes {
            out.extend_from_slice(&[
                b"0123456789abcdef"[usize::from(byte >> 4)],
                b"0123456789abcdef"[usize::from(byte & 15)],
            ]);
        }
    };
    let start = Instant::now();
    let sink = client.copy_in::<_, Bytes>(&format!("COPY rows_{round} FROM STDIN")).await?;
    futures::pin_mut!(sink);
    let mut offset = 0;
    for batch in records.chunks(BATCH) {
        let mut out = Vec::with_capacity(BATCH * 400);
        for record in batch {
            out.extend_from_slice(format!("{offset}\t").as_bytes());
            hex(record.key.as_deref().unwrap_or_default(), &mut out);
            out.push(b'\t');
            hex(record.value.as_deref().unwrap_or_default(), &mut out);
            out.extend_from_slice(format!("\t\\N\t{}\t\\N\n", record.timestamp_us).as_bytes());
            offset += 1;
        }
        sink.send(Bytes::from(out)).await?;
    }
    sink.finish().await?;
    Ok(records.len() as f64 / start.elapsed().as_secs_f64())
}

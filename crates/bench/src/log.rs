//! The log: many producers, whole reads, seeks by time, single appends.

use std::sync::Arc;
use std::time::Instant;

use bytes::Bytes;
use futures::{StreamExt, TryStreamExt};
use gonvel_core::block::pack;
use gonvel_core::naming::{Offset, PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, PartitionBlocks, TopicLog};
use gonvel_core::record::Record;
use gonvel_core::topic_settings::TopicSettings;
use hdrhistogram::Histogram;

use crate::append::record;
use crate::report::{Measured, median};
use crate::world::{Outcome, World};

const TABLE: &str = "(record_offset bigint, key bytea, value bytea, headers jsonb, timestamp_us bigint, schema bigint)";

pub async fn topic(world: &World, name: &str) -> Outcome<TopicPartition> {
    let topic = world.database.create_topic(&TopicName::parse(name)?, 1, &TopicSettings::default()).await?;
    Ok(TopicPartition { topic: topic.id, partition: PartitionId(0) })
}

pub async fn append(world: &World, to: TopicPartition, records: &[Record]) -> Outcome<()> {
    let parts = vec![PartitionBlocks { to, blocks: pack(records) }];
    world.database.append(AppendBatch { parts, ..AppendBatch::default() }).await?;
    Ok(())
}

/// Sixteen producers at once, each with batches of ten, against so many sessions that commit row by row: one, whose rate is
/// what single-row commits give, or as many as there are producers, whose commits the server puts together.
pub async fn producers(sessions: usize) -> Outcome<Measured> {
    const PRODUCERS: usize = 16;
    const BATCHES: usize = 400;
    let rows = if sessions == 1 { 4_000 } else { 400 };
    let world = World::start(&[]).await?;
    let client = world.connect("gonvel").await?;
    client.batch_execute(&format!("CREATE TABLE single_rows {TABLE}")).await?;
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for round in 0..3 {
        let mut clients = Vec::new();
        for _ in 0..sessions {
            clients.push(world.connect("gonvel").await?);
        }
        let start = Instant::now();
        let inserting = clients.iter().enumerate().map(|(producer, client)| async move {
            let statement = client.prepare("INSERT INTO single_rows VALUES ($1, $2, $3, NULL, $4, NULL)").await?;
            for n in 0..rows {
                let r = record(producer * rows + n);
                let (key, value) = (r.key.as_deref(), r.value.as_deref());
                client.execute(&statement, &[&(n as i64), &key, &value, &r.timestamp_us]).await?;
            }
            Ok::<_, tokio_postgres::Error>(())
        });
        futures::future::try_join_all(inserting).await?;
        theirs.push((sessions * rows) as f64 / start.elapsed().as_secs_f64());
        let to = topic(&world, &format!("bins.weighed.{round}")).await?;
        let start = Instant::now();
        let appending = (0..PRODUCERS).map(|producer| {
            let database = world.database.clone();
            tokio::spawn(async move {
                for batch in 0..BATCHES {
                    let records: Vec<Record> = (0..10).map(|n| record((producer * BATCHES + batch) * 10 + n)).collect();
                    let parts = vec![PartitionBlocks { to, blocks: pack(&records) }];
                    database.append(AppendBatch { parts, ..AppendBatch::default() }).await?;
                }
                Ok::<_, gonvel_core::ports::PortError>(())
            })
        });
        for done in futures::future::try_join_all(appending).await? {
            done?;
        }
        ours.push((PRODUCERS * BATCHES * 10) as f64 / start.elapsed().as_secs_f64());
    }
    let (ours, theirs) = (median(ours), median(theirs));
    let (name, what) = if sessions == 1 {
        (
            "producers",
            "16 producers at once, each appending batches of 10 and waiting for each answer, against one session that inserts and commits row by row",
        )
    } else {
        ("producers-sessions", "the same against 16 sessions that insert and commit row by row at once")
    };
    Ok(Measured { name, what, ratio: ours / theirs, goal: 20.0, detail: format!("{ours:.0} records/s against {theirs:.0}") })
}

/// A whole topic read and unpacked to its records, against `COPY … TO STDOUT` of the same rows.
pub async fn read() -> Outcome<Measured> {
    const RECORDS: usize = 2_000_000;
    let world = World::start(&[]).await?;
    let to = topic(&world, "coldstore.readings").await?;
    fill(&world, to, RECORDS, record).await?;
    let client = world.connect("gonvel").await?;
    client
        .batch_execute(&format!(
            "CREATE TABLE rows {TABLE}; INSERT INTO rows SELECT n, convert_to('room-' || n % 60, 'UTF8'), \
             convert_to(format('{{\"room\":%s,\"reading\":%s,\"temperature_c\":%s,\"humidity\":%s,\"door\":\"closed\",\"sensor\":\"cold-%s\",\"note\":\"averling %s\"}}', \
               n % 60, n, n % 9, 80 + n % 20, n % 100000, md5(n::text)), 'UTF8'), NULL, n, NULL FROM generate_series(1, {RECORDS}) n"
        ))
        .await?;
    client.batch_execute("VACUUM ANALYZE rows").await?;
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for _ in 0..3 {
        let start = Instant::now();
        let mut rows = Box::pin(client.copy_out("COPY rows TO STDOUT").await?);
        let mut count = 0;
        while let Some(piece) = rows.try_next().await? {
            count += piece.iter().filter(|b| **b == b'\n').count();
        }
        theirs.push(count as f64 / start.elapsed().as_secs_f64());
        let start = Instant::now();
        let (mut next, mut count, mut bytes) = (Offset(0), 0, 0);
        // the next blocks come while the present ones are unpacked
        let database = world.database.clone();
        let ahead = move |from| {
            let database = database.clone();
            tokio::spawn(async move { database.read(to, from, 8 << 20).await })
        };
        let mut coming = ahead(next);
        loop {
            let blocks = coming.await??;
            let Some(last) = blocks.last() else { break };
            next = last.end();
            coming = ahead(next);
            let (found, size) = tokio::task::spawn_blocking(move || {
                let (mut found, mut size) = (0, 0);
                for block in &blocks {
                    for record in block.open(to)?.records() {
                        let (_, record) = record?;
                        found += 1;
                        size += record.value.map_or(0, <[u8]>::len);
                    }
                }
                Ok::<_, gonvel_core::ports::PortError>((found, size))
            })
            .await??;
            count += found;
            bytes += size;
        }
        assert!(count == RECORDS && bytes > 0, "{count} records were read");
        ours.push(count as f64 / start.elapsed().as_secs_f64());
    }
    let (ours, theirs) = (median(ours), median(theirs));
    Ok(Measured {
        name: "read",
        what: "a topic of 2,000,000 records read whole and unpacked to its records, against `COPY … TO STDOUT` of as many rows",
        ratio: ours / theirs,
        goal: 4.0,
        detail: format!("{ours:.0} records/s against {theirs:.0}"),
    })
}

/// Appends many records quickly.
pub async fn fill(world: &World, to: TopicPartition, count: usize, make: fn(usize) -> Record) -> Outcome<()> {
    const BATCH: usize = 10_000;
    let packed = futures::stream::iter(0..count / BATCH).map(|batch| {
        tokio::task::spawn_blocking(move || {
            let records: Vec<Record> = (batch * BATCH..(batch + 1) * BATCH).map(make).collect();
            pack(&records)
        })
    });
    let mut appends = packed
        .buffered(4)
        .map(|blocks| async {
            let parts = vec![PartitionBlocks { to, blocks: blocks? }];
            world.database.append(AppendBatch { parts, ..AppendBatch::default() }).await?;
            Ok::<_, Box<dyn std::error::Error>>(())
        })
        .buffered(8);
    while let Some(done) = appends.next().await {
        done?;
    }
    Ok(())
}

/// The first record at or after a time in a topic of 50 million records.
pub async fn seek() -> Outcome<Measured> {
    const RECORDS: usize = 50_000_000;
    const LIMIT_MS: f64 = 50.0;
    const SEEKS: u64 = 2_000;
    fn small(n: usize) -> Record {
        Record {
            key: Some(Bytes::from(format!("room-{}", n % 60))),
            value: Some(Bytes::from(format!("{{\"reading\":{n},\"celsius\":{}}}", n % 9))),
            timestamp_us: 1_793_000_000_000_000 + n as i64 * 1000,
            ..Record::default()
        }
    }
    let world = World::start(&[]).await?;
    let to = topic(&world, "coldstore.readings").await?;
    fill(&world, to, RECORDS, small).await?;
    let mut times = Histogram::<u64>::new(3)?;
    for n in 0..SEEKS {
        let wanted = (n.wrapping_mul(0x9e37_79b9_7f4a_7c15) % RECORDS as u64) as i64;
        let time_us = 1_793_000_000_000_000 + wanted * 1000 - 1;
        let start = Instant::now();
        let from = world.database.block_at_time(to, time_us).await?;
        let block = world.database.read(to, from, 1).await?.into_iter().next().ok_or("the time was not found")?;
        let open = block.open(to)?;
        let mut at_or_after = open.records().filter(|r| r.as_ref().map_or(true, |(_, r)| r.timestamp_us >= time_us));
        let (found, _) = at_or_after.next().ok_or("the record is not in its block")??;
        times.record(u64::try_from(start.elapsed().as_micros())?)?;
        assert_eq!(found.0, wanted);
    }
    let ms = |q: f64| times.value_at_quantile(q) as f64 / 1000.0;
    let size: i64 = world.database.bounds(to.topic).await?.iter().map(|b| b.bytes).sum();
    Ok(Measured {
        name: "time-seek",
        what: "the first record at or after a time in a topic of 50,000,000 records, p99 against a limit of 50 ms",
        ratio: LIMIT_MS / ms(0.99),
        goal: 1.0,
        detail: format!(
            "p50 {:.2} ms, p99 {:.2} ms, most {:.2} ms over {SEEKS} seeks; {:.1} GB stored",
            ms(0.5),
            ms(0.99),
            times.max() as f64 / 1000.0,
            size as f64 / 1e9
        ),
    })
}

/// One append of one record at a time, against a bare commit of the same bytes.
pub async fn single() -> Outcome<Measured> {
    const TIMES: usize = 3_000;
    let world = World::start(&[]).await?;
    let client = world.connect("gonvel").await?;
    client.batch_execute("CREATE TABLE bare (body bytea)").await?;
    let statement = client.prepare("INSERT INTO bare VALUES ($1)").await?;
    let to = topic(&world, "bins.weighed").await?;
    let (mut ours, mut theirs) = (Histogram::<u64>::new(3)?, Histogram::<u64>::new(3)?);
    let records: Arc<Vec<Record>> = Arc::new((0..TIMES).map(record).collect());
    // in turn, so that what else the machine does strikes both alike
    for one in records.iter() {
        let body = pack(std::slice::from_ref(one)).remove(0).body;
        let start = Instant::now();
        client.execute(&statement, &[&body.as_ref()]).await?;
        theirs.record(u64::try_from(start.elapsed().as_micros())?)?;
        let start = Instant::now();
        append(&world, to, std::slice::from_ref(one)).await?;
        ours.record(u64::try_from(start.elapsed().as_micros())?)?;
    }
    let p99 = |h: &Histogram<u64>| h.value_at_quantile(0.99) as f64 / 1000.0;
    let p50 = |h: &Histogram<u64>| h.value_at_quantile(0.5) as f64 / 1000.0;
    Ok(Measured {
        name: "single",
        what: "one append of one record at a time, p99 of a bare commit of the same bytes divided by it (at most 3 times as long)",
        ratio: p99(&theirs) / p99(&ours),
        goal: 1.0 / 3.0,
        detail: format!(
            "p50 {:.2} ms, p99 {:.2} ms against p50 {:.2} ms, p99 {:.2} ms",
            p50(&ours),
            p99(&ours),
            p50(&theirs),
            p99(&theirs)
        ),
    })
}

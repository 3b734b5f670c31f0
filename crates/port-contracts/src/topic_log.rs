//! The contract of [`TopicLog`]: dense offsets in order, all or nothing, fenced by the lease, whatever is dropped when.

use std::collections::HashMap;
use std::future::Future;
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

use bytes::Bytes;
use gonvel_core::block::{UnpackedBlock, pack};
use gonvel_core::naming::{ConnectorId, Epoch, Offset, PartitionId, TopicId, TopicName, TopicPartition};
use gonvel_core::ports::{
    Answered, AppendBatch, FleetStore, Identity, LaneProgress, PartitionBlocks, PortError, Topic, TopicLog,
};
use gonvel_core::record::Record;
use gonvel_core::topic_settings::{Keep, TopicSettings};

/// All of it. `connector` has lane 0, which no one holds.
pub async fn all(log: &dyn TopicLog, fleet: &dyn FleetStore, connector: ConnectorId) {
    topics_are_made_once_and_found(log).await;
    concurrent_appends_leave_no_gap_and_keep_each_producer_s_order(log).await;
    a_batch_with_a_part_that_cannot_be_written_writes_nothing(log).await;
    reading_begins_in_the_block_that_holds_the_offset(log).await;
    times_are_found(log).await;
    reading_back_ends_with_the_first_block(log).await;
    settings_change_under_their_revision(log).await;
    partitions_are_added_and_topics_deleted(log).await;
    a_session_s_batches_go_in_once_and_in_order(log).await;
    a_key_stands_for_one_request(log).await;
    what_is_at_hand_is_what_is_stored(log).await;
    waiting_ends_with_the_append(log).await;
    progress_commits_with_its_records_and_only_under_the_lease(log, fleet, connector).await;
    who_knows_fewer_partitions_writes_no_more(log, fleet, connector).await;
    an_append_dropped_at_any_poll_is_done_whole_or_not_at_all(log, fleet, connector).await;
}

fn name(text: &str) -> TopicName {
    TopicName::parse(text).unwrap()
}

fn at(topic: &Topic, partition: i32) -> TopicPartition {
    TopicPartition { topic: topic.id, partition: PartitionId(partition) }
}

fn record(value: &str, timestamp_us: i64) -> Record {
    Record { value: Some(Bytes::copy_from_slice(value.as_bytes())), timestamp_us, ..Record::default() }
}

fn batch(parts: &[(TopicPartition, &[Record])]) -> AppendBatch {
    let parts = parts.iter().map(|(to, records)| PartitionBlocks { to: *to, blocks: pack(*records) });
    AppendBatch { parts: parts.collect(), ..AppendBatch::default() }
}

async fn values(log: &dyn TopicLog, at: TopicPartition) -> Vec<String> {
    let mut out = Vec::new();
    let mut next = Offset(0);
    loop {
        let blocks = log.read(at, next, 1 << 16).await.unwrap();
        if blocks.is_empty() {
            return out;
        }
        for block in blocks {
            assert_eq!(block.first, next, "offsets have a gap");
            next = block.end();
            for record in UnpackedBlock::open(&block.body).unwrap().records() {
                out.push(String::from_utf8(record.unwrap().value.unwrap().to_vec()).unwrap());
            }
        }
        assert_eq!(i64::try_from(out.len()).unwrap(), next.0);
    }
}

async fn topics_are_made_once_and_found(log: &dyn TopicLog) {
    let made = log.create_topic(&name("orchard.made"), 3, &TopicSettings::default()).await.unwrap();
    assert_eq!(log.topic(&name("orchard.made")).await.unwrap(), made);
    assert!(log.topics().await.unwrap().contains(&made));
    assert_eq!(log.bounds(made.id).await.unwrap().len(), 3);
    let again = log.create_topic(&name("orchard.made"), 1, &TopicSettings::default()).await;
    assert!(matches!(again, Err(PortError::Exists { .. })), "{again:?}");
    for partitions in [0, 1001] {
        let refused = log.create_topic(&name("orchard.refused"), partitions, &TopicSettings::default()).await;
        assert!(matches!(refused, Err(PortError::Refused(_))), "{refused:?}");
    }
    assert!(matches!(log.topic(&name("orchard.refused")).await, Err(PortError::NotFound { .. })));
    assert!(matches!(log.bounds(TopicId(-1)).await, Err(PortError::NotFound { .. })));
}

async fn concurrent_appends_leave_no_gap_and_keep_each_producer_s_order(log: &dyn TopicLog) {
    const PRODUCERS: usize = 12;
    const APPENDS: usize = 20;
    let topic = log.create_topic(&name("orchard.concurrent"), 2, &TopicSettings::default()).await.unwrap();
    let produce = |producer: usize| {
        let topic = topic.clone();
        async move {
            for number in 0..APPENDS {
                let records: Vec<Record> =
                    (0..=number % 3).map(|n| record(&format!("{producer} {number} {n}"), 1)).collect();
                // in both orders, so that locks taken as they come would wait for each other
                let (first, second) = if producer.is_multiple_of(2) { (0, 1) } else { (1, 0) };
                let parts = [(at(&topic, first), &records[..]), (at(&topic, second), &records[..])];
                let landed = log.append(batch(&parts)).await.unwrap();
                assert_eq!(landed.len(), 2);
            }
        }
    };
    futures::future::join_all((0..PRODUCERS).map(produce)).await;
    for partition in 0..2 {
        let found = values(log, at(&topic, partition)).await;
        let mut by_producer: HashMap<&str, Vec<&str>> = HashMap::new();
        for value in &found {
            let (producer, rest) = value.split_once(' ').unwrap();
            by_producer.entry(producer).or_default().push(rest);
        }
        let expected: Vec<String> =
            (0..APPENDS).flat_map(|number| (0..=number % 3).map(move |n| format!("{number} {n}"))).collect();
        assert_eq!(by_producer.len(), PRODUCERS);
        assert!(by_producer.values().all(|v| *v == expected), "a producer's records came out of order, twice or not");
        let bounds = log.bounds(topic.id).await.unwrap();
        let ends = bounds.iter().find(|b| b.partition.0 == partition).unwrap();
        assert_eq!((ends.first.0, ends.next.0), (0, i64::try_from(found.len()).unwrap()));
    }
}

async fn a_batch_with_a_part_that_cannot_be_written_writes_nothing(log: &dyn TopicLog) {
    let topic = log.create_topic(&name("orchard.half"), 1, &TopicSettings::default()).await.unwrap();
    let records = [record("never", 1)];
    let refused = log.append(batch(&[(at(&topic, 0), &records), (at(&topic, 7), &records)])).await;
    assert!(matches!(refused, Err(PortError::NotFound { .. })), "{refused:?}");
    assert_eq!(values(log, at(&topic, 0)).await, Vec::<String>::new());
    // nor does it spoil those that are committed together with it
    let good = batch(&[(at(&topic, 0), &records)]);
    let (bad, fine) = tokio::join!(log.append(batch(&[(at(&topic, 7), &records)])), log.append(good));
    assert!(bad.is_err() && fine.is_ok());
}

async fn reading_begins_in_the_block_that_holds_the_offset(log: &dyn TopicLog) {
    let topic = log.create_topic(&name("orchard.read"), 1, &TopicSettings::default()).await.unwrap();
    let place = at(&topic, 0);
    for number in 0..6 {
        let records: Vec<Record> = (0..10).map(|n| record(&format!("{}", number * 10 + n), n)).collect();
        log.append(batch(&[(place, &records)])).await.unwrap();
    }
    for from in [0, 5, 9, 10, 37, 59] {
        let blocks = log.read(place, Offset(from), 1).await.unwrap();
        assert_eq!(blocks.len(), 1, "at least one block, and no more than asked for");
        assert!(blocks[0].first.0 <= from && from < blocks[0].end().0, "block {:?} for {from}", blocks[0].first);
    }
    assert!(log.read(place, Offset(60), 1 << 20).await.unwrap().is_empty());
}

async fn reading_back_ends_with_the_first_block(log: &dyn TopicLog) {
    let topic = log.create_topic(&name("read.back"), 2, &TopicSettings::default()).await.unwrap();
    assert_eq!(log.read_back(at(&topic, 0), Offset(9)).await.unwrap(), None);
    for n in 0..5 {
        let some: Vec<Record> = (0..=n).map(|m| record(&m.to_string(), m)).collect();
        log.append(batch(&[(at(&topic, 0), &some)])).await.unwrap();
    }
    let (mut last, mut ends) = (99, Vec::new());
    while let Some(block) = log.read_back(at(&topic, 0), Offset(last)).await.unwrap() {
        assert_eq!(log.read(at(&topic, 0), block.first, 1).await.unwrap()[0], block);
        ends.push((block.first.0, block.end().0));
        last = block.first.0 - 1;
    }
    assert_eq!(ends, [(10, 15), (6, 10), (3, 6), (1, 3), (0, 1)]);
    // whoever stands at the end or before what is kept has not read past it
    for from in [0, 3, 14, 15, 16] {
        assert_eq!(log.nothing_from(at(&topic, 0), Offset(from)).await.unwrap(), None, "{from}");
    }
    assert_eq!(log.nothing_from(at(&topic, 1), Offset(0)).await.unwrap(), None);
}

async fn times_are_found(log: &dyn TopicLog) {
    let topic = log.create_topic(&name("orchard.times"), 1, &TopicSettings::default()).await.unwrap();
    let place = at(&topic, 0);
    for time in [100, 200, 300] {
        log.append(batch(&[(place, &[record("a", time), record("b", time + 50)])])).await.unwrap();
    }
    for (time, block) in [(0, 0), (150, 0), (151, 2), (200, 2), (350, 4), (351, 6)] {
        assert_eq!(log.block_at_time(place, time).await.unwrap(), Offset(block), "time {time}");
    }
}

async fn settings_change_under_their_revision(log: &dyn TopicLog) {
    let settings = TopicSettings { forget_after_ms: Some(5_000), ..TopicSettings::default() };
    let made = log.create_topic(&name("orchard.settings"), 1, &settings).await.unwrap();
    assert_eq!(made.settings, settings);
    let latest = TopicSettings { keep: Keep::Latest, deletes_kept_ms: 7, ..TopicSettings::default() };
    let changed = log.change_topic(made.id, made.revision, &latest).await.unwrap();
    assert_eq!((&changed.settings, changed.revision), (&latest, made.revision + 1));
    assert_eq!(log.topic(&name("orchard.settings")).await.unwrap(), changed);
    let stale = log.change_topic(made.id, made.revision, &settings).await;
    assert!(matches!(stale, Err(PortError::Changed { .. })), "{stale:?}");
    let wrong = TopicSettings { most_bytes: Some(0), ..TopicSettings::default() };
    for refused in [
        log.change_topic(made.id, changed.revision, &wrong).await,
        log.create_topic(&name("orchard.wrong"), 1, &wrong).await,
    ] {
        assert!(matches!(refused, Err(PortError::Refused(_))), "{refused:?}");
    }
    assert!(matches!(log.change_topic(TopicId(-1), 1, &settings).await, Err(PortError::NotFound { .. })));
}

async fn partitions_are_added_and_topics_deleted(log: &dyn TopicLog) {
    let topic = log.create_topic(&name("orchard.grows"), 2, &TopicSettings::default()).await.unwrap();
    log.append(batch(&[(at(&topic, 1), &[record("before", 1)])])).await.unwrap();
    for refused in [2, 1, 1001] {
        let refused = log.add_partitions(topic.id, refused, &[]).await;
        assert!(matches!(refused, Err(PortError::Refused(_))), "{refused:?}");
    }
    let grown = log.add_partitions(topic.id, 4, &[]).await.unwrap();
    assert_eq!((grown.partitions, grown.revision), (4, topic.revision + 1));
    assert!(grown.scattered && !topic.scattered, "keys are in other partitions than their own");
    log.append(batch(&[(at(&topic, 3), &[record("after", 1)])])).await.unwrap();
    assert_eq!(values(log, at(&topic, 1)).await, ["before"]);
    log.delete_topic(topic.id).await.unwrap();
    assert!(matches!(log.delete_topic(topic.id).await, Err(PortError::NotFound { .. })));
    assert!(matches!(log.topic(&name("orchard.grows")).await, Err(PortError::NotFound { .. })));
    let late = log.append(batch(&[(at(&topic, 1), &[record("late", 1)])])).await;
    assert!(matches!(late, Err(PortError::NotFound { .. })), "{late:?}");
    // the name is free, and what had it before does not show through
    let again = log.create_topic(&name("orchard.grows"), 2, &TopicSettings::default()).await.unwrap();
    assert_ne!(again.id, topic.id);
    assert_eq!(values(log, at(&again, 1)).await, Vec::<String>::new());
}

async fn a_session_s_batches_go_in_once_and_in_order(log: &dyn TopicLog) {
    let topic = log.create_topic(&name("orchard.session"), 1, &TopicSettings::default()).await.unwrap();
    let place = at(&topic, 0);
    let session = log.begin_session().await.unwrap();
    let write = |sequence: i64| {
        let identity = Some(Identity::Sequence { session, sequence, digest: vec![1] });
        AppendBatch { identity, ..batch(&[(place, &[record(&sequence.to_string(), 1)])]) }
    };
    let first = log.append(write(0)).await.unwrap();
    // a retry at the same time as the next, in one group or not
    let (again, next, twice) = tokio::join!(log.append(write(0)), log.append(write(1)), log.append(write(1)));
    assert_eq!(again.unwrap(), first);
    assert_eq!(next.unwrap(), twice.unwrap());
    let early = log.append(write(5)).await;
    assert!(matches!(early, Err(PortError::OutOfTurn { expected: 2, found: 5 })), "{early:?}");
    // another request with a number that was used is no retry, in one group or later
    let other = |sequence| AppendBatch {
        identity: Some(Identity::Sequence { session, sequence, digest: vec![2] }),
        ..write(sequence)
    };
    let reused = log.append(other(1)).await;
    assert!(matches!(reused, Err(PortError::SequenceReused { sequence: 1 })), "{reused:?}");
    // what is refused for another reason does not use up its place
    let missing = AppendBatch { identity: write(2).identity, ..batch(&[(at(&topic, 9), &[record("2", 1)])]) };
    assert!(matches!(log.append(missing).await, Err(PortError::NotFound { .. })));
    let (second, reused) =
        tokio::join!(log.append(AppendBatch { told: Some(Bytes::from_static(b"said")), ..write(2) }), log.append(other(2)));
    assert!(matches!(reused, Err(PortError::SequenceReused { sequence: 2 })), "{reused:?}");
    let kept = Answered { landed: second.unwrap(), told: Some(Bytes::from_static(b"said")) };
    assert_eq!(log.answered(&write(2).identity.unwrap()).await.unwrap(), Some(kept));
    assert_eq!(log.answered(&write(3).identity.unwrap()).await.unwrap(), None);
    for sequence in 3..200 {
        log.append(write(sequence)).await.unwrap();
    }
    assert!(matches!(log.append(write(3)).await, Err(PortError::Refused(_))), "its answer is not kept for ever");
    let expected: Vec<String> = (0..200).map(|n| n.to_string()).collect();
    assert_eq!(values(log, place).await, expected);
    let unknown = Some(Identity::Sequence { session: uuid::Uuid::nil(), sequence: 0, digest: vec![1] });
    let unknown = log.append(AppendBatch { identity: unknown, ..write(0) }).await;
    assert!(matches!(unknown, Err(PortError::NotFound { .. })), "{unknown:?}");
}

async fn what_is_at_hand_is_what_is_stored(log: &dyn TopicLog) {
    let topic = log.create_topic(&name("orchard.recent"), 1, &TopicSettings::default()).await.unwrap();
    let place = at(&topic, 0);
    let session = log.begin_session().await.unwrap();
    let plain = |value: &str| batch(&[(place, &[record(value, 1), record(&format!("{value}'"), 1)])]);
    let known = |sequence: i64, value: &str| AppendBatch {
        identity: Some(Identity::Sequence { session, sequence, digest: vec![1] }),
        ..batch(&[(place, &[record(value, 1)])])
    };
    log.append(plain("a")).await.unwrap();
    log.append(known(0, "b")).await.unwrap();
    // a retry that brings something else is answered like the first try: its records are never seen
    let _ = log.append(known(0, "x")).await;
    let (c, d, e) = tokio::join!(log.append(plain("c")), log.append(known(1, "d")), log.append(plain("e")));
    assert!(c.is_ok() && d.is_ok() && e.is_ok());
    let _ = log.append(known(1, "y")).await;
    log.append(plain("f")).await.unwrap();
    let stored = values(log, place).await;
    assert!(stored.len() == 10 && !stored.iter().any(|v| v == "x" || v == "y"), "{stored:?}");
    for from in 0..stored.len() {
        let start = Offset(i64::try_from(from).unwrap());
        let Some(blocks) = log.recent(place, start, 1 << 20) else { continue };
        let mut next = start;
        for block in &blocks {
            assert!(block.first <= next && block.end() > next, "blocks follow each other from {from}");
            let records = UnpackedBlock::open(&block.body).unwrap();
            for (offset, record) in (block.first.0..).zip(records.records()).filter(|(offset, _)| *offset >= start.0) {
                let value = record.unwrap().value.unwrap().to_vec();
                assert_eq!(String::from_utf8(value).unwrap(), stored[usize::try_from(offset).unwrap()]);
            }
            next = block.end();
        }
    }
    assert!(log.recent(place, Offset(10), 1).is_none(), "nothing is at hand past the end");
}

async fn a_key_stands_for_one_request(log: &dyn TopicLog) {
    let topic = log.create_topic(&name("orchard.keys"), 1, &TopicSettings::default()).await.unwrap();
    let place = at(&topic, 0);
    let write = |key: &str, digest: u8| {
        let identity = Some(Identity::Key { key: key.to_owned(), digest: vec![digest] });
        AppendBatch { identity, ..batch(&[(place, &[record(key, 1)])]) }
    };
    let (first, again) = tokio::join!(log.append(write("a", 1)), log.append(write("a", 1)));
    let first = first.unwrap();
    assert_eq!(again.unwrap(), first);
    assert_eq!(log.append(write("a", 1)).await.unwrap(), first);
    let (other, late) = (log.append(write("a", 2)).await, log.append(write("b", 1)).await.unwrap());
    assert!(matches!(other, Err(PortError::KeyReused { .. })), "{other:?}");
    assert_eq!(late[0].first, Offset(1));
    assert_eq!(values(log, place).await, ["a", "b"]);
    let of = async |key: &str, digest: u8| log.answered(&write(key, digest).identity.unwrap()).await;
    assert_eq!(of("a", 1).await.unwrap(), Some(Answered { landed: first, told: None }));
    assert!(matches!(of("a", 2).await, Err(PortError::KeyReused { .. })));
    assert_eq!(of("never", 1).await.unwrap(), None);
    let many: Vec<_> = (0..20).map(|n| log.append(write("c", u8::from(n == 7)))).collect();
    let outcomes = futures::future::join_all(many).await;
    // whichever came first, one of them was appended
    assert!(outcomes.iter().any(Result::is_ok));
    assert!(outcomes.iter().all(|o| o.is_ok() || matches!(o, Err(PortError::KeyReused { .. }))));
    assert_eq!(values(log, place).await, ["a", "b", "c"]);
}

async fn waiting_ends_with_the_append(log: &dyn TopicLog) {
    let topic = log.create_topic(&name("orchard.wait"), 1, &TopicSettings::default()).await.unwrap();
    let place = at(&topic, 0);
    let start = Instant::now();
    let records = [record("woke", 1)];
    let after = [(place, Offset(0))];
    let waiting = log.wait_for(&after, Duration::from_secs(20));
    let (waited, _) = tokio::join!(waiting, async {
        tokio::time::sleep(Duration::from_millis(50)).await;
        log.append(batch(&[(place, &records)])).await.unwrap();
    });
    waited.unwrap();
    assert!(start.elapsed() < Duration::from_secs(5));
    log.wait_for(&[(place, Offset(0))], Duration::from_secs(20)).await.unwrap();
    assert!(start.elapsed() < Duration::from_secs(10), "what is there already is not waited for");
}

fn progress(connector: ConnectorId, epoch: Epoch, position: i64) -> Option<LaneProgress> {
    Some(LaneProgress { connector, lane: 0, epoch, position: position.into(), ground: 0 })
}

/// The stored position, by taking the lease once more.
async fn position(fleet: &dyn FleetStore, connector: ConnectorId) -> (Epoch, serde_json::Value) {
    let lease = fleet.acquire(connector, 0, "contract", Duration::from_secs(30)).await.unwrap().unwrap();
    (lease.epoch, lease.position)
}

async fn progress_commits_with_its_records_and_only_under_the_lease(
    log: &dyn TopicLog,
    fleet: &dyn FleetStore,
    connector: ConnectorId,
) {
    let topic = log.create_topic(&name("orchard.progress"), 1, &TopicSettings::default()).await.unwrap();
    let place = at(&topic, 0);
    let records = [record("under the lease", 1)];
    let (first, _) = position(fleet, connector).await;
    let write =
        |epoch, position| AppendBatch { progress: progress(connector, epoch, position), ..batch(&[(place, &records)]) };
    log.append(write(first, 1)).await.unwrap();
    let (second, stored) = position(fleet, connector).await;
    assert_eq!(stored, 1);
    let fenced = log.append(write(first, 2)).await;
    assert!(matches!(fenced, Err(PortError::Fenced { .. })), "{fenced:?}");
    let alone = log.append(AppendBatch { progress: progress(connector, first, 3), ..AppendBatch::default() }).await;
    assert!(matches!(alone, Err(PortError::Fenced { .. })), "{alone:?}");
    // a good and a fenced one that are committed in one group do not touch each other
    let (bad, good) = tokio::join!(log.append(write(first, 4)), log.append(write(second, 5)));
    assert!(matches!(bad, Err(PortError::Fenced { .. })) && good.is_ok());
    let (_, stored) = position(fleet, connector).await;
    assert_eq!((stored, values(log, place).await.len()), (5.into(), 2));
}

async fn who_knows_fewer_partitions_writes_no_more(log: &dyn TopicLog, fleet: &dyn FleetStore, connector: ConnectorId) {
    let topic = log.create_topic(&name("orchard.writers"), 1, &TopicSettings::default()).await.unwrap();
    let records = [record("by who knows all", 1)];
    let write = async |epoch, position| {
        let progress = progress(connector, epoch, position);
        log.append(AppendBatch { progress, ..batch(&[(at(&topic, 0), &records)]) }).await
    };
    let (first, _) = position(fleet, connector).await;
    // what is refused ends nobody's lease
    assert!(matches!(log.add_partitions(topic.id, 1, &[connector]).await, Err(PortError::Refused(_))));
    write(first, 1).await.unwrap();
    log.add_partitions(topic.id, 2, &[connector]).await.unwrap();
    let fenced = write(first, 2).await;
    assert!(matches!(fenced, Err(PortError::Fenced { .. })), "{fenced:?}");
    let (second, stored) = position(fleet, connector).await;
    write(second, 3).await.unwrap();
    assert_eq!((stored, values(log, at(&topic, 0)).await.len()), (1.into(), 2));
}

/// Polls a future so many times and drops it; true if it came to its end.
async fn poll_at_most<F: Future>(future: F, polls: usize) -> bool {
    let mut future = Box::pin(future);
    let mut left = polls;
    std::future::poll_fn(move |context: &mut Context<'_>| {
        if left == 0 {
            return Poll::Ready(false);
        }
        left -= 1;
        match future.as_mut().poll(context) {
            Poll::Ready(_) => Poll::Ready(true),
            Poll::Pending => Poll::Pending,
        }
    })
    .await
}

async fn an_append_dropped_at_any_poll_is_done_whole_or_not_at_all(
    log: &dyn TopicLog,
    fleet: &dyn FleetStore,
    connector: ConnectorId,
) {
    let left = log.create_topic(&name("orchard.dropped.left"), 1, &TopicSettings::default()).await.unwrap();
    let right = log.create_topic(&name("orchard.dropped.right"), 1, &TopicSettings::default()).await.unwrap();
    let (epoch, _) = position(fleet, connector).await;
    let mut number = 100;
    let mut whole = 0;
    for polls in (0..6).cycle().take(60) {
        number += 1;
        let records = [record(&number.to_string(), 1), record(&number.to_string(), 1)];
        let parts = [(at(&left, 0), &records[..]), (at(&right, 0), &records[..])];
        let one = AppendBatch { progress: progress(connector, epoch, number), ..batch(&parts) };
        let ended = tokio::time::timeout(Duration::from_millis(2), poll_at_most(log.append(one), polls)).await;
        whole += usize::from(ended == Ok(true));
    }
    // what is still under way is behind this one
    let last = AppendBatch {
        progress: progress(connector, epoch, 1000),
        ..batch(&[(at(&left, 0), &[record("1000", 1), record("1000", 1)])])
    };
    log.append(last).await.unwrap();
    let (_, stored) = position(fleet, connector).await;
    assert_eq!(stored, 1000);
    let (mut found, other) = (values(log, at(&left, 0)).await, values(log, at(&right, 0)).await);
    assert_eq!(found.split_off(found.len() - 2), ["1000", "1000"]);
    assert_eq!(found, other, "a dropped append was done in part");
    assert!(found.chunks(2).all(|pair| pair[0] == pair[1]), "{found:?}");
    assert!(found.len() / 2 >= whole);
    let mut numbers: Vec<&String> = found.iter().step_by(2).collect();
    numbers.dedup();
    assert_eq!(numbers.len() * 2, found.len(), "an append was done twice");
}

//! The contract of [`QuarantineStore`]: a record stands in it once, whole, until it is settled.

use std::time::Duration;

use gonvel_core::failure::cause;
use gonvel_core::naming::{ConnectorId, Offset, PartitionId, SchemaId, TopicId, TopicPartition};
use gonvel_core::ports::{BadRecord, FleetStore, HeldLane, PortError, QuarantineStore, Settled, Step, WaitingKey};
use gonvel_core::record::{Header, Record};

const KEPT: Duration = Duration::from_secs(3_600);

/// A record that failed.
#[must_use]
pub fn bad(partition: i32, offset: i64, key: &str, finding: &str) -> BadRecord {
    let record = Record {
        key: Some(key.to_owned().into()),
        value: (offset % 2 == 0).then(|| vec![0, 255, b'{'].into()),
        headers: vec![Header { name: "kind".into(), value: vec![0, 159].into() }],
        timestamp_us: 1_700_000_000_000_000 + offset,
        schema: Some(SchemaId(7)),
        key_schema: None,
    };
    BadRecord {
        at: TopicPartition { topic: TopicId(1), partition: PartitionId(partition) },
        topic: "packhouse.bins".into(),
        offset: Offset(offset),
        record,
        step: Step::Write,
        finding: finding.into(),
        cause: cause(Step::Write.word(), finding),
    }
}

async fn waiting(store: &dyn QuarantineStore, connector: ConnectorId, places: &[TopicPartition]) -> Vec<WaitingKey> {
    // by and by, as who has little room does
    let mut waiting: Vec<WaitingKey> = Vec::new();
    loop {
        let after = waiting.last().map_or(0, |last| last.id);
        let more = store.waiting_keys(connector, places, after, 2).await.unwrap();
        assert!(more.len() <= 2 && more.iter().all(|w| w.id > after), "{more:?}");
        if more.is_empty() {
            break;
        }
        waiting.extend(more);
    }
    assert_eq!(waiting, store.waiting_keys(connector, places, 0, 1_000).await.unwrap());
    let records = store.waiting_records(connector, places, 0, 1_000).await.unwrap();
    assert_eq!(records.iter().map(|r| r.id).collect::<Vec<_>>(), waiting.iter().map(|w| w.id).collect::<Vec<_>>());
    waiting.sort_by_key(|w| (w.at, w.offset));
    waiting
}

/// All of it, on a connector that has nothing in quarantine and lane 0, which is not run by anyone. `ask` asks for records to be tried
/// again, as a person does.
pub async fn all<S: QuarantineStore + FleetStore, F: AsyncFn(Vec<i64>)>(store: &S, connector: ConnectorId, ask: F) {
    let take = async || {
        let lease = store.acquire(connector, 0, "press", KEPT).await.unwrap().unwrap();
        HeldLane { connector, lane: 0, epoch: lease.epoch }
    };
    let held = take().await;
    let all = [bad(0, 4, "a", "too long"), bad(0, 9, "b", "too long"), bad(1, 3, "c", "null")];
    let places = [all[0].at, all[2].at];
    store.put(held, 1, &all, KEPT).await.unwrap();
    // the same again is the same, described anew
    store.put(held, 2, &all[..1], KEPT).await.unwrap();
    let there = waiting(store, connector, &places).await;
    assert_eq!(there.iter().map(|w| (w.at, w.offset)).collect::<Vec<_>>(), all.clone().map(|b| (b.at, b.offset)));
    assert_eq!(there[0].key, all[0].record.key);
    assert_eq!(waiting(store, connector, &places[1..]).await.len(), 1, "another lane's partitions");
    assert!(store.asked_for(connector, 1, &places, 10).await.unwrap().is_empty());

    // asked for, they come whole and in order
    ask(there.iter().map(|w| w.id).collect()).await;
    let asked = store.asked_for(connector, 1, &places, 10).await.unwrap();
    let records: Vec<_> = asked.iter().map(|a| (a.at, a.offset, a.record.clone())).collect();
    assert_eq!(records, all.clone().map(|b| (b.at, b.offset, b.record)));
    assert_eq!(store.asked_for(connector, 1, &places, 2).await.unwrap().len(), 2);

    // whoever carries what the connector was before a change does not try them as before
    assert!(store.asked_for(connector, 0, &places, 10).await.unwrap().is_empty());

    // what failed again waits, what is delivered or superseded does not
    let failed = Settled::Failed { step: Step::Read, finding: "no schema".into(), cause: 5 };
    store.settle(held, &[asked[0].id], &failed).await.unwrap();
    store.settle(held, &[asked[1].id], &Settled::Delivered).await.unwrap();
    store.settle(held, &[asked[2].id], &Settled::Superseded).await.unwrap();
    assert!(store.asked_for(connector, 1, &places, 10).await.unwrap().is_empty());
    let left = waiting(store, connector, &places).await;
    assert_eq!(left.iter().map(|w| w.id).collect::<Vec<_>>(), [asked[0].id]);
    // what is settled stays so
    store.settle(held, &[asked[1].id], &failed).await.unwrap();
    assert_eq!(waiting(store, connector, &places).await.len(), 1);

    // a lane that begins before a record takes it back, and nothing else
    store.take_back(held, &[(places[0], Offset(5)), (places[1], Offset(0))]).await.unwrap();
    assert_eq!(waiting(store, connector, &places).await.len(), 1);
    store.take_back(held, &[(places[0], Offset(4))]).await.unwrap();
    assert!(waiting(store, connector, &places).await.is_empty());

    // who lost the lane says nothing of them any more: whoever holds it may have delivered them since
    store.put(held, 2, &all, KEPT).await.unwrap();
    let there = waiting(store, connector, &places).await;
    let later = take().await;
    store.settle(later, &[there[0].id], &Settled::Delivered).await.unwrap();
    for late in [
        store.put(held, 2, &all, KEPT).await,
        store.settle(held, &[there[1].id], &Settled::Superseded).await,
        store.take_back(held, &[(places[1], Offset(0))]).await,
    ] {
        assert!(matches!(late, Err(PortError::Fenced { lane: 0, .. })), "{late:?}");
    }
    assert_eq!(waiting(store, connector, &places).await, there[1..]);
    store.release(connector, 0, later.epoch).await.unwrap();
}

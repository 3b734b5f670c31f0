//! Folded, set-wise application of changes against the plainest one: every change by itself, in order, on a map.

use std::collections::BTreeMap;
use std::sync::Arc;

use bytes::Bytes;
use gonvel_connectors::postgres::address::DatabaseAddress;
use gonvel_connectors::postgres::sink::PgSink;
use gonvel_connectors::postgres::{client, sink_positions};
use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, OldImage, Origin};
use gonvel_core::civil::read_rfc3339;
use gonvel_core::column::{ColumnType, Value};
use gonvel_core::connector::{Deletes, DeliveredTopic, TargetRows, Writes};
use gonvel_core::delivered::{self, DeliveredRow};
use gonvel_core::naming::{ConnectorId, Epoch, PartitionId, TopicId, TopicPartition};
use gonvel_core::ports::systems::{Delivered, Held, Round, RowBefore, SinkSettings, TopicChanges};
use gonvel_core::table::{Column, TableSchema};
use gonvel_stand_ins::postgres_cluster::OWNER;
use gonvel_stand_ins::test_cluster::TestCluster;
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::{Config, TestRunner};
use serde_json::Value as Json;
use uuid::Uuid;

type Key = (i64, String);
type Rows = BTreeMap<Key, (Option<i128>, Option<String>)>;
type Changes = (Vec<ChangeBatch>, Vec<((usize, usize), Bytes)>);

fn table() -> Arc<TableSchema> {
    let column =
        |name: &str, ty, source_type: &str, key| Column { name: name.into(), ty, source_type: source_type.into(), key };
    Arc::new(TableSchema {
        system: "packhouse".into(),
        schema: "public".into(),
        table: "bins".into(),
        columns: vec![
            column("id", ColumnType::Int64, "bigint", true),
            column("weight_kg", ColumnType::Decimal { precision: 7, scale: 1 }, "numeric(7,1)", false),
            column("part \"x\"", ColumnType::Text, "text", true),
            column("remark", ColumnType::Text, "text", false),
        ],
    })
}

/// What a step does to the source; steps that do not fit its state are left out, as a real source would not send them.
#[derive(Debug, Clone)]
enum Step {
    Write(i64, bool, Option<i32>, Option<String>),
    Keep(i64, bool, Option<i32>),
    Delete(i64, bool),
    Truncate,
    NewBatch,
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let remark = prop::option::of(prop::sample::select(vec!["", "windfall", "tab\there", "back\\slash\n\\.", "\\N", "é ✓"]));
    let key = || (0_i64..9, any::<bool>());
    let step = prop_oneof![
        8 => (key(), prop::option::of(-9999_i32..9999), remark)
            .prop_map(|((id, part), weight, remark)| Step::Write(id, part, weight, remark.map(str::to_owned))),
        3 => (key(), prop::option::of(-9999_i32..9999)).prop_map(|((id, part), weight)| Step::Keep(id, part, weight)),
        3 => key().prop_map(|(id, part)| Step::Delete(id, part)),
        1 => Just(Step::NewBatch),
    ];
    let rare = prop_oneof![60 => step, 1 => Just(Step::Truncate)];
    prop::collection::vec(rare, 1..160)
}

fn key(id: i64, part: bool) -> Key {
    (id, if part { "it's".to_owned() } else { String::new() })
}

/// One change as the plainest application takes it.
#[derive(Debug, Clone)]
struct Event {
    kind: ChangeKind,
    key: Key,
    weight: Option<i128>,
    /// None if the source did not send it.
    remark: Option<Option<String>>,
    /// Seconds since 1970.
    at: i64,
}

/// The changes that the steps make on the source, in batches, and the source's rows after them. Each change is committed a
/// second after the one before.
fn changes(steps: &[Step], rows: &mut Rows, events: &mut Vec<Event>) -> Changes {
    let mut note = |kind, key: &Key, weight: Option<i32>, remark: Option<Option<String>>| {
        let at = i64::try_from(events.len()).unwrap() + 1;
        events.push(Event { kind, key: key.clone(), weight: weight.map(i128::from), remark, at });
        let position = u64::try_from(at).unwrap();
        Origin { commit_time_us: at * 1_000_000, position, transaction: position, sequence: 0 }
    };
    let mut builder = ChangeBatchBuilder::new(table());
    let (mut batches, mut places) = (Vec::new(), Vec::new());
    let mut row_of_batch = 0;
    for step in steps {
        let mut place = |key: &Key, batches: &Vec<ChangeBatch>| {
            places.push(((batches.len(), row_of_batch), Bytes::from(format!("{}\0{}", key.0, key.1))));
            row_of_batch += 1;
        };
        match step {
            Step::Write(id, part, weight, remark) => {
                let key = key(*id, *part);
                let kind = if rows.contains_key(&key) { ChangeKind::Update } else { ChangeKind::Insert };
                builder.begin(kind, note(kind, &key, *weight, Some(remark.clone())));
                builder.new_value(0, Value::Long(key.0)).unwrap();
                builder.new_value(1, weight.map_or(Value::Null, |w| Value::Decimal(w.into()))).unwrap();
                builder.new_value(2, Value::Text(&key.1)).unwrap();
                builder.new_value(3, remark.as_deref().map_or(Value::Null, Value::Text)).unwrap();
                builder.no_old();
                place(&key, &batches);
                rows.insert(key, (weight.map(i128::from), remark.clone()));
            }
            Step::Keep(id, part, weight) => {
                let key = key(*id, *part);
                let Some(before) = rows.get(&key).cloned() else { continue };
                builder.begin(ChangeKind::Update, note(ChangeKind::Update, &key, *weight, None));
                builder.new_value(0, Value::Long(key.0)).unwrap();
                builder.new_value(1, weight.map_or(Value::Null, |w| Value::Decimal(w.into()))).unwrap();
                builder.new_value(2, Value::Text(&key.1)).unwrap();
                builder.new_unchanged(3);
                builder.no_old();
                place(&key, &batches);
                rows.insert(key, (weight.map(i128::from), before.1));
            }
            Step::Delete(id, part) => {
                let key = key(*id, *part);
                if rows.remove(&key).is_none() {
                    continue;
                }
                builder.begin(ChangeKind::Delete, note(ChangeKind::Delete, &key, None, None));
                builder.no_new();
                builder.begin_old(OldImage::Key);
                builder.old_value(0, Value::Long(key.0)).unwrap();
                builder.old_value(1, Value::Null).unwrap();
                builder.old_value(2, Value::Text(&key.1)).unwrap();
                builder.old_value(3, Value::Null).unwrap();
                place(&key, &batches);
            }
            Step::Truncate => {
                rows.clear();
                let of_all = (0, String::new());
                builder.begin(ChangeKind::Truncate, note(ChangeKind::Truncate, &of_all, None, None));
                builder.no_new();
                builder.no_old();
                place(&(0, String::new()), &batches);
            }
            Step::NewBatch => {
                if !builder.is_empty() {
                    batches.push(builder.finish());
                    row_of_batch = 0;
                }
            }
        }
    }
    batches.push(builder.finish());
    (batches, places)
}

async fn held(client: &tokio_postgres::Client) -> Rows {
    let rows = client.query("SELECT id, \"part \"\"x\"\"\", (weight_kg * 10)::bigint, remark FROM bins", &[]).await.unwrap();
    rows.iter().map(|r| ((r.get(0), r.get(1)), (r.get::<_, Option<i64>>(2).map(i128::from), r.get(3)))).collect()
}

fn sorted(mut lines: Vec<String>) -> Vec<String> {
    lines.sort();
    lines
}

/// A row of any of the other ways of writing, as text.
async fn lines(client: &tokio_postgres::Client, statement: &str) -> Vec<String> {
    sorted(client.query(statement, &[]).await.unwrap().iter().map(|row| row.get(0)).collect())
}

fn shown<T: std::fmt::Display>(value: Option<T>) -> String {
    value.map_or_else(|| "-".into(), |v| v.to_string())
}

const VALUES: &str = "id || '|' || \"part \"\"x\"\"\" || '|' || coalesce((weight_kg * 10)::bigint::text, '-') || '|' || coalesce(remark, '-')";

fn values(key: &Key, weight: Option<i128>, remark: &Option<String>) -> String {
    format!("{}|{}|{}|{}", key.0, key.1, shown(weight), shown(remark.clone()))
}

/// What the tables of each way of writing are to hold, applied change by change.
fn expected(writes: Writes, events: &[Event]) -> Vec<String> {
    type State = (Option<i128>, Option<String>, i64, Option<i64>);
    let mut states: BTreeMap<Key, Vec<State>> = BTreeMap::new();
    let mut out = Vec::new();
    for event in events {
        let ends = matches!(event.kind, ChangeKind::Delete | ChangeKind::Truncate);
        if ends && writes.deletes == Deletes::Ignored {
            continue;
        }
        let row = |remark: &Option<String>| values(&event.key, event.weight, remark);
        match writes.rows {
            TargetRows::Appended if !ends => {
                let unchanged = if event.remark.is_none() { "{remark}" } else { "-" };
                out.push(format!("{}|{unchanged}", row(&event.remark.clone().flatten())));
            }
            TargetRows::Changes => {
                let old = (event.kind == ChangeKind::Delete).then_some(event.key.0);
                let sent = if event.remark.is_none() && !ends { "not sent" } else { "" };
                out.push(format!(
                    "{} {} old {} new {} {sent}",
                    event.at,
                    event.kind.word(),
                    shown(old),
                    shown((!ends).then_some(event.key.0))
                ));
            }
            _ => {}
        }
        if event.kind == ChangeKind::Truncate {
            for state in states.values_mut().filter_map(|s| s.last_mut()).filter(|s| s.3.is_none()) {
                state.3 = Some(event.at);
            }
            continue;
        }
        let of_key = states.entry(event.key.clone()).or_default();
        if ends {
            if let Some(open) = of_key.last_mut().filter(|s| s.3.is_none()) {
                open.3 = Some(event.at);
            }
            continue;
        }
        let before = of_key.last().cloned();
        let remark = event.remark.clone().unwrap_or_else(|| before.clone().and_then(|b| b.1));
        if before.as_ref().is_some_and(|b| b.3.is_none() && (&b.0, &b.1) == (&event.weight, &remark)) {
            continue;
        }
        if let Some(open) = of_key.last_mut().filter(|s| s.3.is_none()) {
            open.3 = Some(event.at);
        }
        of_key.push((event.weight, remark, event.at, None));
    }
    for (key, of_key) in states {
        match writes.rows {
            TargetRows::History => {
                out.extend(of_key.iter().map(|s| format!("{} {} to {}", values(&key, s.0, &s.1), s.2, shown(s.3))))
            }
            TargetRows::Current => {
                out.extend(of_key.last().map(|s| format!("{} gone {}", values(&key, s.0, &s.1), shown(s.3))));
            }
            _ => {}
        }
    }
    sorted(out)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_way_of_writing_holds_what_applying_change_by_change_gives() {
    let cluster = TestCluster::start(&["settlement"]).await;
    let address = DatabaseAddress::new("127.0.0.1", cluster.port, "settlement", OWNER, &cluster.password);
    let at = TopicPartition { topic: TopicId(1), partition: PartitionId(0) };
    let client = client::connect(&address).await.unwrap();
    let mut runner = TestRunner::new(Config::default());
    let ways = [
        (TargetRows::Current, Deletes::Marked, format!("{VALUES} || ' gone ' || coalesce(extract(epoch FROM deleted_at)::bigint::text, '-')")),
        (TargetRows::Current, Deletes::Ignored, format!("{VALUES} || ' gone -'")),
        (TargetRows::Appended, Deletes::Applied, format!("{VALUES} || '|' || coalesce(unchanged::text, '-')")),
        (
            TargetRows::Changes,
            Deletes::Applied,
            "extract(epoch FROM committed_at)::bigint || ' ' || change || ' old ' || coalesce(old->>'id', '-') || ' new ' || coalesce(new->>'id', '-')
             || ' ' || CASE WHEN new IS NOT NULL AND NOT new ? 'remark' THEN 'not sent' ELSE '' END".to_owned(),
        ),
        (
            TargetRows::History,
            Deletes::Applied,
            format!("{VALUES} || ' ' || extract(epoch FROM valid_from)::bigint || ' to ' || coalesce(extract(epoch FROM valid_to)::bigint::text, '-')"),
        ),
        (TargetRows::History, Deletes::Ignored, format!("{VALUES} || ' ' || extract(epoch FROM valid_from)::bigint || ' to ' || coalesce(extract(epoch FROM valid_to)::bigint::text, '-')")),
    ];
    for (number, (rows, deletes, columns)) in ways.into_iter().enumerate() {
        let writes = Writes { rows, deletes, ..Writes::default() };
        let table = format!("bins_{number}");
        let topic =
            DeliveredTopic { topic: "packhouse.bins".into(), schema: "public".into(), table: table.clone(), rows: None };
        let connector = ConnectorId(Uuid::now_v7());
        let settings = SinkSettings { connector, lane: 0, topics: vec![(TopicId(1), topic)], writes };
        let (mut sink, _) = PgSink::start(address.clone(), settings, Epoch(1), &[(at, Delivered::default())]).await.unwrap();
        let (mut source, mut events) = (Rows::new(), Vec::new());
        for next in 1..=10 {
            let steps = steps().new_tree(&mut runner).unwrap().current();
            let (batches, places) = changes(&steps, &mut source, &mut events);
            let topics = vec![TopicChanges {
                topic: 0,
                batches,
                changes: places,
                from: vec![],
                record_keys: None,
                row_before: RowBefore::Known,
            }];
            let delivered = vec![(at, Delivered { next, ..Delivered::default() })];
            sink.apply(&Round { topics, delivered, more: false }).await.unwrap();
            let found = lines(&client, &format!("SELECT {columns} FROM {table}")).await;
            assert_eq!(found, expected(writes, &events), "{writes:?} {steps:?}");
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_part_of_a_row_that_is_not_there_is_refused_alone() {
    let cluster = TestCluster::start(&["settlement"]).await;
    let address = DatabaseAddress::new("127.0.0.1", cluster.port, "settlement", OWNER, &cluster.password);
    let at = TopicPartition { topic: TopicId(1), partition: PartitionId(0) };
    let (write, keep, delete) = (
        |id| Step::Write(id, false, Some(1), Some("as it was".into())),
        |id| Step::Keep(id, false, Some(2)),
        |id| Step::Delete(id, false),
    );
    let ways = [
        (TargetRows::Current, Deletes::Applied),
        (TargetRows::Current, Deletes::Marked),
        (TargetRows::Current, Deletes::Ignored),
        (TargetRows::History, Deletes::Applied),
        (TargetRows::Appended, Deletes::Applied),
    ];
    for (number, (rows, deletes)) in ways.into_iter().enumerate() {
        let topic = DeliveredTopic {
            topic: "packhouse.bins".into(),
            schema: "public".into(),
            table: format!("bins_{number}"),
            rows: None,
        };
        let writes = Writes { rows, deletes, ..Writes::default() };
        let connector = ConnectorId(Uuid::now_v7());
        let settings = SinkSettings { connector, lane: 0, topics: vec![(TopicId(1), topic)], writes };
        let (mut sink, _) = PgSink::start(address.clone(), settings, Epoch(1), &[(at, Delivered::default())]).await.unwrap();
        // each list of steps with the rows that the source has before it: a shape may have kept some of them away
        let round = |lists: &[(&[i64], &[Step])]| {
            let (mut batches, mut places) = (Vec::new(), Vec::new());
            for (there, steps) in lists {
                let mut rows: Rows = there.iter().map(|id| (key(*id, false), (None, None))).collect();
                let (more, at) = changes(steps, &mut rows, &mut Vec::new());
                places.extend(at.into_iter().map(|((batch, row), key)| ((batch + batches.len(), row), key)));
                batches.extend(more);
            }
            let from = (0..places.len()).map(|place| (at, i64::try_from(place).unwrap())).collect();
            let (record_keys, row_before) = (None, RowBefore::MayBeOld);
            let topics = vec![TopicChanges { topic: 0, batches, changes: places, from, record_keys, row_before }];
            Round { topics, delivered: vec![(at, Delivered { next: 1, ..Delivered::default() })], more: false }
        };
        sink.apply(&round(&[(&[], &[write(1), write(2), write(3), delete(3)])])).await.unwrap();
        // 1 is there, 2 goes and comes back, 3 went before, 4 never came
        let comes = round(&[(&[1, 2], &[keep(1), delete(2)]), (&[2, 3, 4], &[keep(2), keep(3), keep(4), write(5)])]);
        let applied = sink.apply(&comes).await;
        if rows == TargetRows::Appended {
            applied.unwrap();
            continue;
        }
        let finding = applied.unwrap_err().to_string();
        assert!(finding.contains("does not have the row as it was"), "{writes:?}: {finding}");
        sink.roll_back().await.unwrap();
        let refused: Vec<usize> = sink.sift(&comes, Held::default()).await.unwrap().iter().map(|r| r.change).collect();
        sink.finish(&comes).await.unwrap();
        let wanted: &[usize] = if deletes == Deletes::Ignored { &[0, 2, 3, 4] } else { &[2, 3, 4] };
        assert_eq!(refused, wanted, "{writes:?}");
    }
}

/// A row as a sample of a delivery shows it, in the words of [`expected`].
fn sampled(writes: Writes, row: &DeliveredRow) -> Option<String> {
    let text = |name: &str| row.cells.get(name).and_then(Json::as_str).map(str::to_owned);
    let second = |name: &str| text(name).map(|t| read_rfc3339(&t).unwrap() / 1_000_000);
    let of = |image: &str| row.cells[image].get("id").and_then(Json::as_i64);
    if writes.rows == TargetRows::Changes {
        let kind = text("change").unwrap();
        let sent = if row.cells["unchanged"].is_null() { "" } else { "not sent" };
        let (at, old, new) = (shown(second("committed_at")), shown(of("old")), shown(of("new")));
        return Some(format!("{at} {kind} old {old} new {new} {sent}"));
    }
    let weight = text("weight_kg").map(|t| t.replace('.', "").parse::<i128>().unwrap());
    let key = (row.cells["id"].as_i64().unwrap(), text("part \"x\"").unwrap());
    let values = values(&key, weight, &text("remark"));
    match writes.rows {
        TargetRows::Appended => {
            Some(format!("{values}|{}", if row.cells["unchanged"].is_null() { "-" } else { "{remark}" }))
        }
        TargetRows::History => Some(format!("{values} {} to {}", shown(second("valid_from")), shown(second("valid_to")))),
        _ if row.how == "removed" => None,
        _ => Some(format!("{values} gone {}", shown(second("deleted_at")))),
    }
}

#[test]
fn a_sample_of_a_delivery_shows_what_a_table_would_hold() {
    let mut runner = TestRunner::new(Config::default());
    let all = [TargetRows::Current, TargetRows::Appended, TargetRows::Changes, TargetRows::History];
    for _ in 0..300 {
        let mut steps = steps().new_tree(&mut runner).unwrap().current();
        steps.retain(|step| !matches!(step, Step::NewBatch));
        let mut events = Vec::new();
        let (batches, places) = changes(&steps, &mut Rows::new(), &mut events);
        let keys: Vec<Vec<u8>> = places.iter().map(|(_, key)| key.to_vec()).collect();
        for (rows, deletes) in
            all.into_iter().flat_map(|r| [Deletes::Applied, Deletes::Marked, Deletes::Ignored].map(|d| (r, d)))
        {
            if deletes == Deletes::Marked && rows != TargetRows::Current {
                continue;
            }
            let writes = Writes { rows, deletes, ..Writes::default() };
            let found = delivered::rows(&batches[0], &keys, writes);
            let found: Vec<String> = found.iter().filter_map(|row| sampled(writes, row)).collect();
            let mut wanted = expected(writes, &events);
            // a deleted row is not there any more
            wanted.retain(|line| writes != Writes::default() || line.ends_with("gone -"));
            assert_eq!(sorted(found), wanted, "{writes:?} {steps:?}");
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn rounds_in_part_are_seen_together_or_not_at_all() {
    let cluster = TestCluster::start(&["settlement"]).await;
    let address = DatabaseAddress::new("127.0.0.1", cluster.port, "settlement", OWNER, &cluster.password);
    let topic = DeliveredTopic { topic: "packhouse.bins".into(), schema: "public".into(), table: "bins".into(), rows: None };
    let connector = ConnectorId(Uuid::now_v7());
    let at = TopicPartition { topic: TopicId(1), partition: PartitionId(0) };
    let writes = Writes::default();
    let settings = SinkSettings { connector, lane: 0, topics: vec![(TopicId(1), topic)], writes };
    let client = client::connect(&address).await.unwrap();
    let round = |id, next, more| {
        let (batches, changes) = changes(&[Step::Write(id, true, Some(1), None)], &mut Rows::new(), &mut Vec::new());
        let delivered = if more { vec![] } else { vec![(at, Delivered { next, ..Delivered::default() })] };
        Round {
            topics: vec![TopicChanges {
                topic: 0,
                batches,
                changes,
                from: vec![],
                record_keys: None,
                row_before: RowBefore::Known,
            }],
            delivered,
            more,
        }
    };
    {
        let (mut sink, _) =
            PgSink::start(address.clone(), settings.clone(), Epoch(1), &[(at, Delivered::default())]).await.unwrap();
        sink.apply(&round(1, 1, false)).await.unwrap();
        sink.apply(&round(2, 2, true)).await.unwrap();
        assert_eq!(held(&client).await.len(), 1, "a part was seen");
    }
    // the holder went away within: nothing of it is there, and it is delivered again
    let (mut sink, delivered) =
        PgSink::start(address.clone(), settings, Epoch(2), &[(at, Delivered::default())]).await.unwrap();
    assert_eq!(delivered[&at].delivered.next, 1);
    sink.apply(&round(2, 2, true)).await.unwrap();
    sink.apply(&round(3, 3, false)).await.unwrap();
    assert_eq!(held(&client).await.len(), 3);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn any_history_leaves_the_target_as_the_source_is() {
    let cluster = TestCluster::start(&["settlement"]).await;
    let address = DatabaseAddress::new("127.0.0.1", cluster.port, "settlement", OWNER, &cluster.password);
    let topic = DeliveredTopic { topic: "packhouse.bins".into(), schema: "public".into(), table: "bins".into(), rows: None };
    let connector = ConnectorId(Uuid::now_v7());
    let at = TopicPartition { topic: TopicId(1), partition: PartitionId(0) };
    let writes = Writes::default();
    let settings = SinkSettings { connector, lane: 0, topics: vec![(TopicId(1), topic)], writes };
    let mut runner = TestRunner::new(Config::default());
    let mut rows = Rows::new();
    let (mut next, mut events) = (0, Vec::new());
    let client = client::connect(&address).await.unwrap();
    for epoch in 1..=6 {
        // a new holder goes on where the former stood, and the former can commit nothing more
        let (mut sink, delivered) =
            PgSink::start(address.clone(), settings.clone(), Epoch(epoch), &[(at, Delivered::default())]).await.unwrap();
        assert_eq!(delivered[&at].delivered.next, next);
        for _ in 0..8 {
            let steps = steps().new_tree(&mut runner).unwrap().current();
            let (batches, places) = changes(&steps, &mut rows, &mut events);
            next += 1;
            let moved = vec![(at, Delivered { next, ..Delivered::default() })];
            let topics = vec![TopicChanges {
                topic: 0,
                batches,
                changes: places,
                from: vec![],
                record_keys: None,
                row_before: RowBefore::Known,
            }];
            sink.apply(&Round { topics, delivered: moved, more: false }).await.unwrap_or_else(|e| panic!("{e}: {steps:?}"));
            assert_eq!(held(&client).await, rows, "{steps:?}");
        }
        let (_later, _) =
            PgSink::start(address.clone(), settings.clone(), Epoch(epoch + 1), &[(at, Delivered::default())]).await.unwrap();
        let (batches, places) = changes(&[Step::Write(1, true, Some(1), None)], &mut rows.clone(), &mut Vec::new());
        let topics = vec![TopicChanges {
            topic: 0,
            batches,
            changes: places,
            from: vec![],
            record_keys: None,
            row_before: RowBefore::Known,
        }];
        let delivered = vec![(at, Delivered { next: 999, ..Delivered::default() })];
        let late = sink.apply(&Round { topics, delivered, more: false }).await;
        assert!(late.is_err(), "a former holder committed");
        assert_eq!(held(&client).await, rows, "a former holder wrote");
    }
    let older = PgSink::start(address.clone(), settings, Epoch(2), &[(at, Delivered::default())]).await;
    assert!(older.is_err(), "an older holder took over");
    sink_positions::clean_up(&address, connector).await.unwrap();
    let gone: bool = client.query_one("SELECT to_regnamespace('gonvel') IS NULL", &[]).await.unwrap().get(0);
    assert!(gone);
}

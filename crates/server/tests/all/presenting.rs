//! How the API shows what is stored: connectors and their definitions, records of several partitions.

use gonvel_core::connector as core;
use gonvel_core::naming::{Offset, PartitionId};
use gonvel_core::ports::{LaneStatus, TableProgress};
use gonvel_core::record::{Record, StoredRecord};
use gonvel_core::table_patterns::TablePatterns;
use gonvel_http_api as api;
use gonvel_http_api::Order;
use gonvel_server::inner::{asked_definition, connector, definition, merged};
use gonvel_storage::catalog::connectors::{CarriedLane, Connector};
use uuid::Uuid;

#[test]
fn a_lane_that_nobody_carries_needs_a_person_whatever_it_said_last() {
    let lane = |state: State, waits: Option<&str>| CarriedLane {
        lane: 0,
        runner: None,
        waits: waits.map(str::to_owned),
        status: Some(LaneStatus { rate_per_s: 40.0, ..LaneStatus::entering(state, 0) }),
    };
    let seen = |wish: core::Wish, lanes: Vec<CarriedLane>| {
        let topic = core::DeliveredTopic { topic: "bins".into(), schema: "public".into(), table: "bins".into(), rows: None };
        let found = Connector {
            id: gonvel_core::naming::ConnectorId(Uuid::nil()),
            name: "settlement-tables".into(),
            definition: core::SinkDefinition::of(Uuid::nil(), vec![topic]).into(),
            wish,
            passed_over: 0,
            version: 1,
            created_at: chrono::DateTime::UNIX_EPOCH,
            lanes,
        };
        let seen = connector(&found, "settlement".into(), 0).condition;
        (seen.state, seen.reason, seen.rate_per_s)
    };
    use gonvel_core::connector::{State, Wish};
    let why = "no runner has site=packhouse";
    let nobody = seen(Wish::Run, vec![lane(State::Following, None), lane(State::Following, Some(why))]);
    assert_eq!(nobody, (api::State::Halted, Some(why.into()), 0.0));
    assert_eq!(seen(Wish::Stop, vec![lane(State::Stopped, Some(why))]), (api::State::Stopped, None, 40.0));
    // on its way from one runner to another
    assert_eq!(seen(Wish::Run, vec![lane(State::Stopped, None)]).0, api::State::Starting);
    assert_eq!(seen(Wish::Run, vec![lane(State::Following, None)]), (api::State::Following, None, 40.0));
    assert_eq!(seen(Wish::Run, vec![]).0, api::State::Starting);
}

#[test]
fn a_table_of_an_earlier_version_is_not_shown_though_a_lane_still_says_it() {
    let progress = |topic: &str| TableProgress { other_end: topic.into(), ..TableProgress::default() };
    let said = [("public.growers", "growers"), ("public.blocks", "blocks"), ("site.hail", "hail")];
    let status = LaneStatus {
        tables: said.iter().map(|(table, topic)| ((*table).to_owned(), progress(topic))).collect(),
        ..LaneStatus::entering(core::State::Following, 0)
    };
    let seen = |patterns: Option<TablePatterns>| {
        let renamed = core::CapturedTable::whole("public", "orchardists", "growers");
        let blocks = core::CapturedTable::whole("public", "blocks", "blocks");
        let found = Connector {
            id: gonvel_core::naming::ConnectorId(Uuid::nil()),
            name: "growers-changes".into(),
            definition: core::SourceDefinition {
                patterns,
                ..core::SourceDefinition::of(Uuid::nil(), vec![renamed, blocks], 1)
            }
            .into(),
            wish: core::Wish::Run,
            passed_over: 0,
            version: 2,
            created_at: chrono::DateTime::UNIX_EPOCH,
            lanes: vec![CarriedLane { lane: 0, runner: None, waits: None, status: Some(status.clone()) }],
        };
        connector(&found, "packhouse".into(), 0).tables.into_iter().map(|t| t.from).collect::<Vec<_>>()
    };
    assert_eq!(seen(None), ["public.orchardists", "public.blocks"]);
    let site = TablePatterns { include: vec!["site.*".into()], exclude: vec![], topic: "{table}".into() };
    assert_eq!(seen(Some(site)), ["public.orchardists", "public.blocks", "site.hail"]);
}

#[test]
fn both_forms_of_a_definition_say_the_same() {
    let table = core::CapturedTable {
        leave_out: vec!["remark".into()],
        key: vec!["id".into()],
        load_where: Some("true".into()),
        ..core::CapturedTable::whole("public", "bins", "bins")
    };
    let patterns = TablePatterns { include: vec!["*".into()], exclude: vec!["x".into()], topic: "{table}".into() };
    let starts = [
        core::Start::Earliest,
        core::Start::Latest,
        core::Start::Time { time: "2026-11-25T06:00:00Z".into() },
        core::Start::Position { position: "0/1".into() },
        core::Start::Offsets { offsets: vec![core::StartOffset { topic: "bins".into(), partition: 0, offset: 7 }] },
        core::Start::Connector { connector: Uuid::max() },
    ];
    for start in starts {
        let source = core::SourceDefinition {
            patterns: Some(patterns.clone()),
            load: core::InitialLoad { rows: false, rows_per_second: Some(9), chunks: 4 },
            values: core::Values { form: core::ValueForm::Row, encoding: core::Encoding::Json },
            existing_rows: Some(core::ExistingRows::Compare),
            start: Some(start.clone()),
            schema_changes: Some("changes".into()),
            ..core::SourceDefinition::of(Uuid::nil(), vec![table.clone()], 3)
        };
        let topic = core::DeliveredTopic { topic: "bins".into(), schema: "public".into(), table: "bins".into(), rows: None };
        let mut sink = core::SinkDefinition::of(Uuid::nil(), vec![topic]);
        (sink.start, sink.existing_rows) = (Some(start), Some(core::ExistingRows::Empty));
        for rows in
            [core::TargetRows::Current, core::TargetRows::Appended, core::TargetRows::Changes, core::TargetRows::History]
        {
            for deletes in [core::Deletes::Applied, core::Deletes::Marked, core::Deletes::Ignored] {
                for columns in [core::TargetColumns::Ask, core::TargetColumns::Add, core::TargetColumns::Widen] {
                    for guarantee in
                        [core::Guarantee::ExactlyOnce, core::Guarantee::AtLeastOnce, core::Guarantee::AtMostOnce]
                    {
                        sink.writes = core::Writes { rows, deletes, columns, whole_transactions: true, guarantee };
                        let whole = core::Definition::from(sink.clone());
                        assert_eq!(asked_definition(&definition(&whole)), whole);
                    }
                }
            }
        }
        let whole = core::Definition::from(source);
        assert_eq!(asked_definition(&definition(&whole)), whole);
    }
}

fn partition(times: &[i64]) -> Vec<StoredRecord> {
    let placed = |(offset, &timestamp_us): (i64, &i64)| StoredRecord {
        offset: Offset(offset),
        record: Record { timestamp_us, ..Record::default() },
    };
    (0..).zip(times).map(placed).collect()
}

#[test]
fn partitions_are_merged_by_time_and_each_keeps_its_own_order() {
    let both = || vec![(PartitionId(0), partition(&[10, 5, 30])), (PartitionId(1), partition(&[7, 20]))];
    let places =
        |order, limit| -> Vec<(i32, i64)> { merged(both(), order, limit).iter().map(|(p, r)| (p.0, r.offset.0)).collect() };
    // offset 1 of partition 0 has an earlier time than offset 0 and still comes after it
    assert_eq!(places(Order::Oldest, 9), [(1, 0), (0, 0), (0, 1), (1, 1), (0, 2)]);
    assert_eq!(places(Order::Newest, 3), [(0, 0), (1, 0), (1, 1)]);
    assert_eq!(places(Order::Oldest, 2), [(1, 0), (0, 0)]);
}

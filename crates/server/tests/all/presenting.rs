//! How the API shows what is stored: connectors and their definitions, records of several partitions.

use gonvel_core::connector as core;
use gonvel_core::naming::{Offset, PartitionId};
use gonvel_core::ports::{LaneStatus, TableProgress};
use gonvel_core::record::{Record, StoredRecord};
use gonvel_core::table_patterns::TablePatterns;
use gonvel_http_api::Order;
use gonvel_server::inner::{connector, merged};
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
        let seen = connector(&found, Some(("settlement", "postgresql")), 0).condition;
        (seen.state, seen.reason, seen.rate_per_s)
    };
    use gonvel_core::connector::{State, Wish};
    let why = "no runner has site=packhouse";
    let nobody = seen(Wish::Run, vec![lane(State::Following, None), lane(State::Following, Some(why))]);
    assert_eq!(nobody, (State::Halted, Some(why.into()), 0.0));
    assert_eq!(seen(Wish::Stop, vec![lane(State::Stopped, Some(why))]), (State::Stopped, None, 40.0));
    // on its way from one runner to another
    assert_eq!(seen(Wish::Run, vec![lane(State::Stopped, None)]).0, State::Starting);
    assert_eq!(seen(Wish::Run, vec![lane(State::Following, None)]), (State::Following, None, 40.0));
    assert_eq!(seen(Wish::Run, vec![]).0, State::Starting);
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
        connector(&found, Some(("packhouse", "postgresql")), 0).tables.into_iter().map(|t| t.from).collect::<Vec<_>>()
    };
    assert_eq!(seen(None), ["public.orchardists", "public.blocks"]);
    let site = TablePatterns { include: vec!["site.*".into()], exclude: vec![], topic: "{table}".into() };
    assert_eq!(seen(Some(site)), ["public.orchardists", "public.blocks", "site.hail"]);
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

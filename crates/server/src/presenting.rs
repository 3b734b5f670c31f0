//! Stored things in the form of the API.

use std::collections::{BTreeMap, HashSet};

use gonvel_core::civil::rfc3339;
use gonvel_core::connector as core;
use gonvel_core::connector::State;
use gonvel_core::ports::LaneStatus;
use gonvel_http_api as api;
use gonvel_runtime::systems;
use gonvel_storage::catalog::connectors::{CarriedLane, Connector};

fn state(connector: &Connector, lane: Option<&LaneStatus>) -> State {
    let said = lane.map(|l| l.state);
    match (connector.wish, said) {
        (core::Wish::Draft, _) => State::Draft,
        (core::Wish::Delete, Some(State::Retrying)) => State::Retrying,
        (core::Wish::Stop | core::Wish::Delete, _) => State::Stopped,
        // one runner let go of it, and the next has not begun yet
        (_, None | Some(State::Stopped)) => State::Starting,
        (_, Some(said)) => said,
    }
}

/// A connector as people see it; `system` is its connection's name and kind.
pub fn connector(connector: &Connector, system: Option<(&str, &str)>, quarantined: i64) -> api::Connector {
    let together = LaneStatus::together(connector.said());
    let lane = together.as_ref();
    let about = system.and_then(|(_, kind)| systems::kind(kind).ok()).map(|kind| kind.about());
    // each lane says a table that it found
    let found = connector.found().filter(|(_, table)| !table.other_end.is_empty());
    let found: BTreeMap<&String, &String> = found.map(|(from, table)| (from, &table.other_end)).collect();
    let found = found.into_iter();
    let ways = planned(&connector.definition).into_iter();
    let ways = ways.chain(found.map(|(from, to)| (from.clone(), String::new(), to.clone())));
    let mut counted = HashSet::new();
    let tables: Vec<api::TableProgress> = ways
        .map(|(from, types, to)| {
            let counted_above = !counted.insert(from.clone());
            let progress = lane.and_then(|l| l.tables.get(&from)).filter(|_| !counted_above);
            let counts = progress.map(|p| p.counts).unwrap_or_default();
            api::TableProgress {
                from,
                to,
                types,
                counted_above,
                counts: api::Counts {
                    load: counts.load,
                    insert: counts.insert,
                    update: counts.update,
                    delete: counts.delete,
                    truncate: counts.truncate,
                },
                load_total: progress.and_then(|p| p.load_total),
                load_done: progress.and_then(|p| p.load_done),
            }
        })
        .collect();
    api::Connector {
        id: connector.id.0,
        name: connector.name.clone(),
        kind: connector.definition.kind().into(),
        definition: connector.definition.clone(),
        system: system.map(|(name, _)| name.to_owned()).unwrap_or_default(),
        condition: condition(connector, lane, connector.lanes.iter().find_map(|l| l.waits.as_ref())),
        deleting: connector.wish == core::Wish::Delete,
        latency_ms: lane.and_then(|l| l.latency_ms),
        lag_ms: lane.and_then(|l| l.lag_ms),
        position: lane.and_then(|l| l.position.clone()),
        guarantee: connector.definition.guarantee(about.and_then(|about| about.sink).map(|sink| sink.late_writes)),
        version: connector.version,
        created_at: rfc3339(connector.created_at.timestamp_micros()),
        tables,
        lanes: connector.lanes.iter().map(|l| lane_of(connector, l)).collect(),
        quarantined,
        passed_over: connector.passed_over,
        notes: lane.map(|l| l.notes.clone()).unwrap_or_default(),
    }
}

/// One lane as people see it.
pub(crate) fn lane_of(connector: &Connector, lane: &CarriedLane) -> api::Lane {
    let condition = condition(connector, lane.status.as_ref(), lane.waits.as_ref());
    api::Lane { lane: lane.lane, runner: lane.runner.clone(), condition }
}

/// How a connector or a lane is doing. What it last said counts only if somebody can carry it: else a person is needed.
fn condition(connector: &Connector, said: Option<&LaneStatus>, waits: Option<&String>) -> api::Condition {
    let wanted = matches!(connector.wish, core::Wish::Run | core::Wish::Pause | core::Wish::Delete);
    if let Some(waits) = waits.filter(|_| wanted) {
        let reason = Some(waits.clone());
        let lag_records = said.and_then(|l| l.lag_records);
        return api::Condition { state: State::Halted, since: None, reason, retry_at: None, rate_per_s: 0.0, lag_records };
    }
    api::Condition {
        state: state(connector, said),
        since: said.map(|l| rfc3339(l.since_us)),
        reason: said.and_then(|l| l.reason.clone()),
        retry_at: said.and_then(|l| l.retry_at_us).map(rfc3339),
        rate_per_s: said.map_or(0.0, |l| l.rate_per_s),
        lag_records: said.and_then(|l| l.lag_records),
    }
}

/// From where, with which types of records, to where, for each table or topic of a definition.
fn planned(definition: &core::Definition) -> Vec<(String, String, String)> {
    let types = |carried: &core::Carries| carried.name[carried.from.len()..].trim().to_owned();
    definition.carries().into_iter().map(|carried| (carried.from.clone(), types(&carried), carried.to)).collect()
}

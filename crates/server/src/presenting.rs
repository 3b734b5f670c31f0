//! Stored things in the form of the API.

use std::collections::{BTreeMap, HashSet};

use gonvel_core::civil::rfc3339;
use gonvel_core::connector as core;
use gonvel_core::ports::LaneStatus;
use gonvel_http_api as api;
use gonvel_storage::catalog::connectors::{CarriedLane, Connector};

/// Both forms of a definition say the same in JSON.
fn same<T: serde::de::DeserializeOwned>(definition: &impl serde::Serialize) -> T {
    let json = serde_json::to_value(definition).expect("a definition is text, numbers and lists");
    serde_json::from_value(json).expect("both forms of a definition have the same fields, as a test holds")
}

pub fn definition(definition: &core::Definition) -> api::Definition {
    same(definition)
}

pub fn asked_definition(definition: &api::Definition) -> core::Definition {
    same(definition)
}

pub(crate) fn asked_table(table: &api::CapturedTable) -> core::CapturedTable {
    same(table)
}

/// A captured table as it is shown.
pub(crate) fn captured(table: &core::CapturedTable) -> api::CapturedTable {
    same(table)
}

pub(crate) fn asked_values(values: api::Values) -> core::Values {
    same(&values)
}

pub(crate) fn asked_writes(writes: api::Writes) -> core::Writes {
    same(&writes)
}

fn state(connector: &Connector, lane: Option<&LaneStatus>) -> api::State {
    let said = lane.map(|l| l.state);
    match (connector.wish, said) {
        (core::Wish::Draft, _) => api::State::Draft,
        (core::Wish::Stop, _) => api::State::Stopped,
        (core::Wish::Delete, Some(core::State::Retrying)) => api::State::Retrying,
        (core::Wish::Delete, _) => api::State::Stopped,
        (_, None) => api::State::Starting,
        (_, Some(said)) => match said {
            core::State::Draft => api::State::Draft,
            core::State::Starting => api::State::Starting,
            core::State::Loading => api::State::Loading,
            core::State::Following => api::State::Following,
            core::State::Paused => api::State::Paused,
            // one runner let go of it, and the next has not begun yet
            core::State::Stopped => api::State::Starting,
            core::State::Retrying => api::State::Retrying,
            core::State::Halted => api::State::Halted,
        },
    }
}

const SOURCE_GUARANTEE: &str =
    "Exactly once: the position in the source and the records it produced commit in one transaction of the topic log.";
const TOPICS_GUARANTEE: &str =
    "Exactly once: records and the positions they bring commit in one transaction of the topic log.";

/// What a sink gives, by where its position is kept.
fn sink_guarantee(guarantee: core::Guarantee) -> &'static str {
    match guarantee {
        core::Guarantee::ExactlyOnce => "Exactly once: rows and position commit in one transaction of the target database.",
        core::Guarantee::AtLeastOnce => {
            "At least once: Gonvel keeps the position and moves it once the rows are in the target, so a crash in between delivers some again."
        }
        core::Guarantee::AtMostOnce => {
            "At most once: Gonvel keeps the position and moves it before the rows are in the target, so a crash in between loses some."
        }
    }
}

pub fn connector(connector: &Connector, system: String, quarantined: i64) -> api::Connector {
    let together = LaneStatus::together(connector.said());
    let lane = together.as_ref();
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
        definition: definition(&connector.definition),
        system,
        condition: condition(connector, lane, connector.lanes.iter().find_map(|l| l.waits.as_ref())),
        deleting: connector.wish == core::Wish::Delete,
        latency_ms: lane.and_then(|l| l.latency_ms),
        lag_ms: lane.and_then(|l| l.lag_ms),
        position: lane.and_then(|l| l.position.clone()),
        guarantee: guarantee(&connector.definition),
        version: connector.version,
        created_at: rfc3339(connector.created_at.timestamp_micros()),
        tables,
        lanes: connector.lanes.iter().map(|l| lane_of(connector, l)).collect(),
        quarantined,
        passed_over: connector.passed_over,
        notes: lane.map(|l| l.notes.clone()).unwrap_or_default(),
    }
}

/// What a connector guarantees, and why, in a sentence or two.
fn guarantee(definition: &core::Definition) -> String {
    let whole = matches!(definition, core::Definition::Sink(sink) if sink.writes.whole_transactions);
    let halts = whole || definition.failing().records == core::BadRecords::Halt;
    let (guarantee, bad) = match definition {
        core::Definition::Source(source) if source.shape.is_nothing() => return SOURCE_GUARANTEE.into(),
        core::Definition::Source(_) if halts => (SOURCE_GUARANTEE, "It halts before a row that it cannot shape."),
        core::Definition::Source(_) => (SOURCE_GUARANTEE, "A row that it cannot shape waits in quarantine by its key."),
        core::Definition::Topics(_) if halts => (TOPICS_GUARANTEE, "It halts before a record that it cannot shape."),
        core::Definition::Topics(_) => (TOPICS_GUARANTEE, "A record that it cannot shape waits in quarantine."),
        core::Definition::Sink(sink) => {
            let bad = if halts {
                "It halts before a record that it cannot deliver."
            } else {
                "A record that it cannot deliver waits in quarantine."
            };
            (sink_guarantee(sink.writes.guarantee), bad)
        }
    };
    format!("{guarantee} {bad}")
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
        return api::Condition {
            state: api::State::Halted,
            since: None,
            reason,
            retry_at: None,
            rate_per_s: 0.0,
            lag_records,
        };
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
    match definition {
        core::Definition::Source(source) => {
            source.tables.iter().map(|t| (t.qualified(), String::new(), t.topic.clone())).collect()
        }
        core::Definition::Sink(_) | core::Definition::Topics(_) => {
            let types = |read: &core::ReadTopic<'_>| read.name[read.topic.len()..].trim().to_owned();
            definition.read_topics().into_iter().map(|read| (read.topic.to_owned(), types(&read), read.to)).collect()
        }
    }
}

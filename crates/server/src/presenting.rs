//! Stored things in the form of the API.

use gonvel_core::civil::rfc3339;
use gonvel_core::connector as core;
use gonvel_core::ports::LaneStatus;
use gonvel_http_api as api;
use gonvel_storage::catalog::connectors::Connector;

pub(crate) fn definition(definition: &core::Definition) -> api::Definition {
    match definition {
        core::Definition::Source { connection, tables, partitions, load } => api::Definition::Source {
            connection: *connection,
            tables: tables
                .iter()
                .map(|t| api::CapturedTable { schema: t.schema.clone(), table: t.table.clone(), topic: t.topic.clone() })
                .collect(),
            partitions: *partitions,
            load: api::InitialLoad { rows: load.rows, rows_per_second: load.rows_per_second },
        },
        core::Definition::Sink { connection, topics } => api::Definition::Sink {
            connection: *connection,
            topics: topics
                .iter()
                .map(|t| api::DeliveredTopic { topic: t.topic.clone(), schema: t.schema.clone(), table: t.table.clone() })
                .collect(),
        },
    }
}

pub(crate) fn asked_definition(definition: api::Definition) -> core::Definition {
    match definition {
        api::Definition::Source { connection, tables, partitions, load } => core::Definition::Source {
            connection,
            tables: tables
                .into_iter()
                .map(|t| core::CapturedTable { schema: t.schema, table: t.table, topic: t.topic })
                .collect(),
            partitions,
            load: core::InitialLoad { rows: load.rows, rows_per_second: load.rows_per_second },
        },
        api::Definition::Sink { connection, topics } => core::Definition::Sink {
            connection,
            topics: topics
                .into_iter()
                .map(|t| core::DeliveredTopic { topic: t.topic, schema: t.schema, table: t.table })
                .collect(),
        },
    }
}

fn state(connector: &Connector, lane: Option<&LaneStatus>) -> api::State {
    let said = lane.map(|l| l.state);
    match (connector.wish, said) {
        (core::Wish::Draft, _) => api::State::Draft,
        (core::Wish::Delete, Some(core::State::Retrying)) => api::State::Retrying,
        (core::Wish::Delete, _) => api::State::Stopped,
        (_, None) => api::State::Starting,
        (_, Some(said)) => match said {
            core::State::Draft => api::State::Draft,
            core::State::Starting => api::State::Starting,
            core::State::Loading => api::State::Loading,
            core::State::Following => api::State::Following,
            core::State::Paused => api::State::Paused,
            core::State::Stopped => api::State::Stopped,
            core::State::Retrying => api::State::Retrying,
            core::State::Halted => api::State::Halted,
        },
    }
}

const SOURCE_GUARANTEE: &str =
    "Exactly once: the position in the source and the records it produced commit in one transaction of the topic log.";
const SINK_GUARANTEE: &str = "Exactly once: rows and position commit in one transaction of the target database.";

pub(crate) fn connector(connector: &Connector, system: String) -> api::Connector {
    let lane = connector.lanes.first();
    let tables: Vec<api::TableProgress> = planned(&connector.definition)
        .map(|(from, to)| {
            let progress = lane.and_then(|l| l.tables.get(&from));
            let counts = progress.map(|p| p.counts).unwrap_or_default();
            api::TableProgress {
                from,
                to,
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
        state: state(connector, lane),
        since: lane.map(|l| rfc3339(l.since_us)),
        reason: lane.and_then(|l| l.reason.clone()),
        retry_at: lane.and_then(|l| l.retry_at_us).map(rfc3339),
        deleting: connector.wish == core::Wish::Delete,
        rate_per_s: lane.map_or(0.0, |l| l.rate_per_s),
        latency_ms: lane.and_then(|l| l.latency_ms),
        lag_records: lane.and_then(|l| l.lag_records),
        lag_ms: lane.and_then(|l| l.lag_ms),
        position: lane.and_then(|l| l.position.clone()),
        guarantee: if connector.definition.kind() == "source" { SOURCE_GUARANTEE } else { SINK_GUARANTEE }.into(),
        version: connector.version,
        created_at: rfc3339(connector.created_at.timestamp_micros()),
        tables,
    }
}

/// From where to where, for each table or topic of a definition.
fn planned(definition: &core::Definition) -> Box<dyn Iterator<Item = (String, String)> + '_> {
    match definition {
        core::Definition::Source { tables, .. } => {
            Box::new(tables.iter().map(|t| (format!("{}.{}", t.schema, t.table), t.topic.clone())))
        }
        core::Definition::Sink { topics, .. } => {
            Box::new(topics.iter().map(|t| (t.topic.clone(), format!("{}.{}", t.schema, t.table))))
        }
    }
}

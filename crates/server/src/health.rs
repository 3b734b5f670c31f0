//! Health and metrics.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use gonvel_core::change::KindCounts;
use gonvel_core::civil::rfc3339;
use gonvel_core::ports::LaneStatus;
use gonvel_http_api::{Health, TaskRestarts};
use gonvel_tending::Restarts;

use crate::problems::Refusal;
use crate::state::ServerState;

/// Whether the server and its database answer.
#[utoipa::path(operation_id = "getHealth", get, path = "/api/v1/health", tag = "server", responses((status = 200, body = Health), (status = 503, body = Health)))]
pub(crate) async fn health(State(state): State<Arc<ServerState>>) -> Response {
    let up = state.database.ping().await.is_ok();
    let health = Health {
        status: if up { "ok" } else { "no database" }.into(),
        version: env!("CARGO_PKG_VERSION").into(),
        demo: state.demo.is_some(),
        panics: crate::panics::seen(),
        restarts: gonvel_tending::restarts().into_iter().map(restarted).collect(),
    };
    (if up { StatusCode::OK } else { StatusCode::SERVICE_UNAVAILABLE }, Json(health)).into_response()
}

fn restarted((task, restarts): (&'static str, Restarts)) -> TaskRestarts {
    let last_at = rfc3339(chrono::DateTime::<chrono::Utc>::from(restarts.last).timestamp_micros());
    TaskRestarts { task: task.into(), count: restarts.count, last_at }
}

/// Metrics in Prometheus' text form.
pub(crate) async fn metrics(State(state): State<Arc<ServerState>>) -> Result<String, Refusal> {
    let quarantined = state.database.quarantine_counts().await?;
    for connector in state.database.connectors().await? {
        #[allow(clippy::cast_precision_loss, reason = "a count for a gauge")]
        let waiting = quarantined.get(&connector.id.0).copied().unwrap_or(0) as f64;
        metrics::gauge!("gonvel_connector_quarantined_records", "connector" => connector.name.clone()).set(waiting);
        if let Some(lane) = LaneStatus::together(connector.said()) {
            let name = connector.name.clone();
            metrics::gauge!("gonvel_connector_rate_changes_per_second", "connector" => name.clone()).set(lane.rate_per_s);
            if let Some(lag_ms) = lane.lag_ms {
                metrics::gauge!("gonvel_connector_lag_seconds", "connector" => name.clone()).set(lag_ms / 1000.0);
            }
            for state in ["starting", "loading", "following", "paused", "stopped", "retrying", "halted"] {
                let is = serde_json::to_value(lane.state).is_ok_and(|s| s == state);
                let labels = [("connector", name.clone()), ("state", state.to_owned())];
                metrics::gauge!("gonvel_connector_state", &labels).set(if is { 1.0 } else { 0.0 });
            }
            for (table, progress) in &lane.tables {
                for (kind, count) in by_kind(progress.counts) {
                    let labels = [("connector", name.clone()), ("table", table.clone()), ("kind", kind.to_owned())];
                    metrics::counter!("gonvel_connector_changes_total", &labels).absolute(count);
                }
            }
        }
    }
    for (task, restarts) in gonvel_tending::restarts() {
        metrics::counter!("gonvel_task_restarts_total", "task" => task).absolute(restarts.count);
    }
    Ok(state.metrics.render())
}

fn by_kind(counts: KindCounts) -> [(&'static str, u64); 5] {
    [
        ("load", counts.load),
        ("insert", counts.insert),
        ("update", counts.update),
        ("delete", counts.delete),
        ("truncate", counts.truncate),
    ]
}

//! Runners and the lanes they carry.

mod history;

use std::collections::HashMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use gonvel_core::civil::rfc3339;
use gonvel_core::naming::RunnerName;
use gonvel_core::ports::RunnerStore;
use gonvel_http_api::{CarriedLane, DrainRequest, Problem, Runner, Runners, WaitingLane};

use crate::presenting;
use crate::problems::{Body, Path, Refusal};
use crate::state::ServerState;

pub(crate) use history::*;

/// All runners with what they carry, and the lanes that wait for one.
#[utoipa::path(operation_id = "listRunners", get, path = "/api/v1/runners", tag = "runners", responses((status = 200, body = Runners)))]
pub(crate) async fn list(State(state): State<Arc<ServerState>>) -> Result<Json<Runners>, Refusal> {
    let connectors = state.database.connectors().await?;
    let by_id: HashMap<_, _> = connectors.iter().map(|c| (c.id, c)).collect();
    let stored = state.database.runners().await?;
    let runner = |runner: gonvel_core::ports::Runner| {
        let lane = |&(connector, lane, weight): &(_, i32, u32)| {
            let found = by_id.get(&connector)?;
            let state = found.lanes.iter().find(|l| l.lane == lane).map(|l| presenting::lane_of(found, l).condition.state);
            let state = state.unwrap_or(gonvel_core::connector::State::Starting);
            Some(CarriedLane { connector: connector.0, name: found.name.clone(), lane, weight, state })
        };
        Runner {
            load: runner.lanes.iter().map(|(_, _, weight)| weight).sum(),
            lanes: runner.lanes.iter().filter_map(lane).collect(),
            name: runner.said.name.to_string(),
            labels: runner.said.labels,
            room: runner.said.room,
            host: runner.said.host,
            release: runner.said.release,
            started_at: rfc3339(runner.started_us),
            beat_at: rfc3339(runner.beat_us),
            alive: runner.alive,
            draining: runner.draining,
        }
    };
    let mut waiting = Vec::new();
    for connector in &connectors {
        for lane in &connector.lanes {
            if let Some(reason) = lane.waits.clone() {
                let name = connector.name.clone();
                waiting.push(WaitingLane { connector: connector.id.0, name, lane: lane.lane, reason });
            }
        }
    }
    let runners = stored.into_iter().map(runner).collect();
    Ok(Json(Runners { runners, waiting }))
}

/// Empties a runner, or lets it have lanes again. Lanes move to others as far as those have room.
#[utoipa::path(operation_id = "drainRunner", put, path = "/api/v1/runners/{name}/draining", tag = "runners", request_body = DrainRequest,
    responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn drain(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Body(request): Body<DrainRequest>,
) -> Result<StatusCode, Refusal> {
    state.database.drain(&RunnerName::parse(name)?, request.draining).await?;
    state.nudge.notify_one();
    Ok(StatusCode::NO_CONTENT)
}

/// Forgets a runner that is gone.
#[utoipa::path(operation_id = "forgetRunner", delete, path = "/api/v1/runners/{name}", tag = "runners",
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn forget(State(state): State<Arc<ServerState>>, Path(name): Path<String>) -> Result<StatusCode, Refusal> {
    state.database.forget_runner(&RunnerName::parse(name)?).await?;
    Ok(StatusCode::NO_CONTENT)
}

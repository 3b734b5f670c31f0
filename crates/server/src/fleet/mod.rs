//! Runners and the lanes they carry.

mod history;

use std::collections::HashMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use gonvel_core::civil::rfc3339;
use gonvel_core::naming::RunnerName;
use gonvel_core::ports::{PortError, RunnerStore};
use gonvel_http_api::{CarriedLane, DrainRequest, NamedQuery, Page, PagingQuery, Problem, Runner, WaitingLane};

use crate::listing::{Listed, Place, has};
use crate::presenting;
use crate::problems::{Body, Path, Refusal};
use crate::state::ServerState;

pub(crate) use history::*;

pub(crate) async fn all(state: &ServerState) -> Result<Vec<Runner>, Refusal> {
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
    Ok(stored.into_iter().map(runner).collect())
}

/// Runners with what they carry, also those that are gone for less than a day.
#[utoipa::path(operation_id = "listRunners", get, path = "/api/v1/runners", tag = "runners", params(NamedQuery, PagingQuery),
    responses((status = 200, body = Page<Runner>)))]
pub(crate) async fn list(
    State(state): State<Arc<ServerState>>,
    Listed { which, paging }: Listed<NamedQuery>,
) -> Result<Json<Page<Runner>>, Refusal> {
    let runners = all(&state).await?.into_iter().filter(|runner| has(&runner.name, which.search.as_ref()));
    Ok(Json(paging.page(runners, which.descending, |runner| Place::named(&runner.name))?))
}

/// One runner with what it carries.
#[utoipa::path(operation_id = "getRunner", get, path = "/api/v1/runners/{name}", tag = "runners",
    responses((status = 200, body = Runner), (status = 404, body = Problem)))]
pub(crate) async fn one(State(state): State<Arc<ServerState>>, Path(name): Path<String>) -> Result<Json<Runner>, Refusal> {
    let name = RunnerName::parse(name)?;
    let found = all(&state).await?.into_iter().find(|runner| runner.name == name.as_str());
    Ok(Json(found.ok_or_else(|| PortError::NotFound { what: format!("the runner {name}") })?))
}

/// Lanes that no runner carries, and why.
#[utoipa::path(operation_id = "listWaitingLanes", get, path = "/api/v1/waiting-lanes", tag = "runners", params(NamedQuery, PagingQuery),
    responses((status = 200, body = Page<WaitingLane>)))]
pub(crate) async fn waiting(
    State(state): State<Arc<ServerState>>,
    Listed { which, paging }: Listed<NamedQuery>,
) -> Result<Json<Page<WaitingLane>>, Refusal> {
    let connectors = state.database.connectors().await?;
    let waits = connectors.iter().filter(|connector| has(&connector.name, which.search.as_ref())).flat_map(|connector| {
        let of = |lane: &gonvel_storage::catalog::connectors::CarriedLane| {
            let (connector, name) = (connector.id.0, connector.name.clone());
            Some(WaitingLane { connector, name, lane: lane.lane, reason: lane.waits.clone()? })
        };
        connector.lanes.iter().filter_map(of)
    });
    let page = paging.page(waits, which.descending, |lane| Place::told(&lane.name, &format!("{:010}", lane.lane)))?;
    Ok(Json(page))
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

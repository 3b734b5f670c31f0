//! The demo's workload switch.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use gonvel_http_api::{Problem, ProblemType, Workload, WorkloadRequest};

use crate::problems::{Body, Refusal};
use crate::state::{DemoWorkload, ServerState};

const USUAL_RATE: u32 = 20;

fn demo(state: &ServerState) -> Result<&dyn DemoWorkload, Refusal> {
    state.demo.as_deref().ok_or_else(|| {
        Refusal::new(ProblemType::NotFound, "this server is not the demo, and only that has a workload")
            .remedied("start the demo with make demo")
    })
}

async fn present(demo: &dyn DemoWorkload) -> Workload {
    let (rate, done) = demo.now().await;
    Workload { running: rate.is_some(), rate: rate.unwrap_or(USUAL_RATE), done }
}

/// Whether the day at the packhouse runs.
#[utoipa::path(operation_id = "getWorkload", get, path = "/api/v1/demo/workload", tag = "demo",
    responses((status = 200, body = Workload), (status = 404, body = Problem)))]
pub(crate) async fn workload(State(state): State<Arc<ServerState>>) -> Result<Json<Workload>, Refusal> {
    Ok(Json(present(demo(&state)?).await))
}

/// Switches the day at the packhouse on or off.
#[utoipa::path(operation_id = "switchWorkload", put, path = "/api/v1/demo/workload", tag = "demo", request_body = WorkloadRequest,
    responses((status = 200, body = Workload), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn switch(
    State(state): State<Arc<ServerState>>,
    Body(request): Body<WorkloadRequest>,
) -> Result<Json<Workload>, Refusal> {
    let demo = demo(&state)?;
    if !(1..=20_000).contains(&request.rate) {
        return Err(Refusal::invalid("rate", format!("{} transactions a second: give 1 to 20000", request.rate)));
    }
    demo.switch(request.running.then_some(request.rate)).await.map_err(|e| Refusal::new(ProblemType::Unreachable, e))?;
    Ok(Json(present(demo).await))
}

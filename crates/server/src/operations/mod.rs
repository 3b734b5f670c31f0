//! Operations: work that takes longer than a request.

pub(crate) mod settling;
pub(crate) mod working;

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::{HeaderName, StatusCode, header};
use chrono::Utc;
use gonvel_core::civil::rfc3339;
use gonvel_http_api::{
    ObjectKind, Operation, OperationKind, OperationResult, OperationState, OperationUnit, OperationsQuery, Page,
    PagingQuery, Problem, ProblemType, Subject,
};
use gonvel_storage::Database;
use gonvel_storage::operations::Operation as Stored;
use serde_json::Value;
use uuid::Uuid;

use crate::creating::{Creation, made_id};
use crate::listing::{Listed, Place};
use crate::problems::{Path, Refusal};
use crate::state::ServerState;

/// How long an operation has to go on before it is told how long it takes.
const TELLING_MS: i64 = 1_000;

/// The answer of a request that begins an operation.
pub(crate) type Begun = (StatusCode, [(HeaderName, String); 1], Json<Operation>);

/// The word that an operation's kind is kept by.
pub(crate) fn word(kind: OperationKind) -> &'static str {
    match kind {
        OperationKind::Apply => "apply",
        OperationKind::Delete => "delete",
        OperationKind::Import => "import",
        OperationKind::LoadAgain => "load_again",
        OperationKind::Retry => "retry",
    }
}

/// What an operation is done with, as it is kept.
pub(crate) fn subject(kind: ObjectKind, id: Option<Uuid>, name: &str) -> Option<Value> {
    serde_json::to_value(Subject { kind, id, name: name.to_owned() }).ok()
}

/// Begins an operation, once however often the same request comes, and shows it. What begins it gives its id.
pub(crate) async fn begin(
    state: &ServerState,
    creation: Creation,
    begin: impl AsyncFnOnce(&Database) -> Result<Uuid, Refusal>,
) -> Result<Begun, Refusal> {
    let begin = async |database: &Database| begin(database).await.map(|id| id.to_string());
    let (_, operation) = creation.make(state, begin, async |id| find(state, made_id(&id)?).await).await?;
    let at = [(header::LOCATION, format!("/api/v1/operations/{}", operation.id))];
    Ok((StatusCode::ACCEPTED, at, Json(operation)))
}

/// Why an operation failed: a problem document of the request that it carries out, or a word for what befell it.
fn problem(kept: &Value) -> Problem {
    match kept["code"].as_str() {
        Some("gone") => Problem::new(ProblemType::NotFound, "its connector was deleted meanwhile"),
        Some("deserted") => {
            let detail = "the server that did this stopped before it was done, or was cut off from Gonvel's own database; what was done until then stays";
            let remedy = "look at what was done, then ask again for what is missing".into();
            Problem { remedy, ..Problem::new(ProblemType::TryAgain, detail) }
        }
        _ => serde_json::from_value(kept.clone())
            .unwrap_or_else(|_| Problem::new(ProblemType::Failed, "it failed, and why cannot be read any more")),
    }
}

fn present(stored: Stored) -> Operation {
    let read = |word: &str| serde_json::from_value(Value::from(word));
    let kind: OperationKind = read(&stored.kind).unwrap_or(OperationKind::Apply);
    let state: OperationState = serde_json::from_value(Value::from(stored.state)).unwrap_or(OperationState::Failed);
    let went_ms = (Utc::now() - stored.began_at).num_milliseconds();
    let left_ms = stored.total.filter(|total| (1..*total).contains(&stored.done) && went_ms >= TELLING_MS);
    let left_ms = left_ms.filter(|_| state == OperationState::Running && stored.waits.is_none());
    Operation {
        id: stored.id,
        kind,
        says: stored.says,
        state,
        subject: stored.subject.and_then(|subject| serde_json::from_value(subject).ok()),
        asked_by: Some(stored.who).filter(|who| !who.is_empty()),
        cancelling: stored.cancelling && state == OperationState::Running,
        done: stored.done,
        total: stored.total,
        unit: match kind {
            OperationKind::Apply | OperationKind::Delete => OperationUnit::Steps,
            OperationKind::Import => OperationUnit::Bytes,
            OperationKind::LoadAgain => OperationUnit::Rows,
            OperationKind::Retry => OperationUnit::Records,
        },
        left_ms: left_ms.map(|total| went_ms / stored.done * (total - stored.done)),
        waits: stored.waits,
        result: serde_json::from_value::<OperationResult>(stored.result).unwrap_or_default(),
        problem: stored.problem.as_ref().map(problem),
        began_at: rfc3339(stored.began_at.timestamp_micros()),
        ended_at: stored.ended_at.map(|at| rfc3339(at.timestamp_micros())),
    }
}

/// All operations that are kept, the newest first.
pub(crate) async fn all(state: &ServerState) -> Result<Vec<Operation>, Refusal> {
    Ok(state.database.operations().await?.into_iter().map(present).collect())
}

async fn find(state: &ServerState, id: Uuid) -> Result<Operation, Refusal> {
    Ok(present(state.database.operation(id).await?))
}

/// Operations, the newest first: all that are being done, and the newest thousand of those that ended in the last week; without the steps of
/// those that apply manifests.
#[utoipa::path(operation_id = "listOperations", get, path = "/api/v1/operations", tag = "operations", params(OperationsQuery, PagingQuery),
    responses((status = 200, body = Page<Operation>)))]
pub(crate) async fn list(
    State(state): State<Arc<ServerState>>,
    Listed { which, paging }: Listed<OperationsQuery>,
) -> Result<Json<Page<Operation>>, Refusal> {
    let mut operations = all(&state).await?;
    operations.retain(|operation| {
        which.kind.is_none_or(|kind| kind == operation.kind)
            && which.state.is_none_or(|state| state == operation.state)
            && which
                .subject
                .as_ref()
                .is_none_or(|name| operation.subject.as_ref().is_some_and(|subject| subject.name == *name))
    });
    // ids grow with time
    Ok(Json(paging.page(operations, true, |operation| Place::named(&operation.id.to_string()))?))
}

/// One operation.
#[utoipa::path(operation_id = "getOperation", get, path = "/api/v1/operations/{id}", tag = "operations",
    responses((status = 200, body = Operation), (status = 404, body = Problem)))]
pub(crate) async fn one(State(state): State<Arc<ServerState>>, Path(id): Path<Uuid>) -> Result<Json<Operation>, Refusal> {
    find(&state, id).await.map(Json)
}

/// Cancels an operation: it ends as soon as it can, and what was done until then stays. What has begun in a system and cannot be left half
/// done is refused: a connector's leaving its system, and a load that has begun.
#[utoipa::path(operation_id = "cancelOperation", delete, path = "/api/v1/operations/{id}", tag = "operations",
    responses((status = 202, body = Operation), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn cancel(
    State(state): State<Arc<ServerState>>,
    Path(id): Path<Uuid>,
) -> Result<(StatusCode, Json<Operation>), Refusal> {
    state.database.cancel_operation(id).await?;
    Ok((StatusCode::ACCEPTED, Json(find(&state, id).await?)))
}

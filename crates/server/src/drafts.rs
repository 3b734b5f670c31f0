//! Unfinished drafts of connectors, kept until they are created or discarded.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use gonvel_core::civil::rfc3339;
use gonvel_core::naming::LONGEST_NAME;
use gonvel_http_api::{ConnectorKind, DraftEntry, DraftRequest, Page, PagingQuery, Problem, UnfinishedDraft};
use gonvel_storage::Database;
use gonvel_storage::catalog::drafts::{self as stored, DraftInput};
use uuid::Uuid;

use crate::creating::{Creating, KeyHeader, made_id};
use crate::listing::{Listed, Place, Unfiltered};
use crate::problems::{Body, Path, Refusal};
use crate::revisions::{IfMatch, IfMatchHeader, Tagged};
use crate::state::ServerState;
use crate::who::Who;

pub(crate) fn word(kind: ConnectorKind) -> &'static str {
    match kind {
        ConnectorKind::Source => "source",
        ConnectorKind::Sink => "sink",
        ConnectorKind::Topics => "topics",
    }
}

fn entry(draft: stored::DraftEntry) -> DraftEntry {
    let kinds = [ConnectorKind::Source, ConnectorKind::Sink, ConnectorKind::Topics];
    DraftEntry {
        id: draft.id,
        name: draft.name,
        kind: kinds.into_iter().find(|k| word(*k) == draft.kind).unwrap_or(ConnectorKind::Source),
        lacks: draft.lacks,
        revision: draft.revision,
        saved_by: draft.saved_by,
        saved_at: rfc3339(draft.saved_at.timestamp_micros()),
    }
}

fn present(draft: stored::UnfinishedDraft) -> Tagged<UnfinishedDraft> {
    Tagged(draft.entry.revision, UnfinishedDraft { entry: entry(draft.entry), work: draft.work })
}

/// A draft need not have a name that connectors may have; but it is shown, and so has its bounds.
fn input(request: DraftRequest, who: Who) -> Result<DraftInput, Refusal> {
    for (field, text) in [("name", &request.name), ("lacks", &request.lacks)] {
        let length = text.chars().count();
        if length > LONGEST_NAME * 2 {
            let detail = format!("the {field} has {length} characters: shorten it to {} or fewer", LONGEST_NAME * 2);
            return Err(Refusal::invalid(field, detail));
        }
        if text.contains('\0') {
            return Err(Refusal::invalid(
                field,
                format!("the {field} holds a zero character, which cannot be kept: leave it out"),
            ));
        }
    }
    if !request.work.is_object() {
        return Err(Refusal::invalid("work", "what the builder holds is not an object: send it as the builder does"));
    }
    Ok(DraftInput {
        name: request.name.trim().to_owned(),
        kind: word(request.kind).into(),
        lacks: request.lacks,
        work: request.work,
        saved_by: who.0,
    })
}

/// All unfinished drafts, without what they hold.
pub(crate) async fn all(state: &ServerState) -> Result<Vec<DraftEntry>, Refusal> {
    Ok(state.database.drafts().await?.into_iter().map(entry).collect())
}

/// Unfinished drafts, the one saved last first.
#[utoipa::path(operation_id = "listDrafts", get, path = "/api/v1/drafts", tag = "connectors", params(PagingQuery),
    responses((status = 200, body = Page<DraftEntry>)))]
pub(crate) async fn list(
    State(state): State<Arc<ServerState>>,
    Listed { paging, .. }: Listed<Unfiltered>,
) -> Result<Json<Page<DraftEntry>>, Refusal> {
    let at = |draft: &stored::DraftEntry| Place::numbered(draft.saved_at.timestamp_micros(), &draft.id.to_string());
    Ok(Json(paging.page(state.database.drafts().await?, true, at)?.map(entry)))
}

/// Saves a connector that is not complete enough to be one. Nothing is checked.
#[utoipa::path(operation_id = "saveDraft", post, path = "/api/v1/drafts", tag = "connectors", request_body = DraftRequest, params(KeyHeader),
    responses((status = 201, body = UnfinishedDraft), (status = 422, body = Problem)))]
pub(crate) async fn save(
    State(state): State<Arc<ServerState>>,
    who: Who,
    Creating(creation, request): Creating<DraftRequest>,
) -> Result<(StatusCode, Tagged<UnfinishedDraft>), Refusal> {
    let make = async |database: &Database| Ok(database.create_draft(&input(request, who)?).await?.entry.id.to_string());
    creation.make(&state, make, async |id| Ok(present(state.database.find_draft(made_id(&id)?).await?))).await
}

/// One unfinished draft.
#[utoipa::path(operation_id = "getDraft", get, path = "/api/v1/drafts/{id}", tag = "connectors",
    responses((status = 200, body = UnfinishedDraft), (status = 404, body = Problem)))]
pub(crate) async fn one(
    State(state): State<Arc<ServerState>>,
    Path(id): Path<Uuid>,
) -> Result<Tagged<UnfinishedDraft>, Refusal> {
    Ok(present(state.database.find_draft(id).await?))
}

/// Saves an unfinished draft again, if nobody saved it since it was read.
#[utoipa::path(operation_id = "saveDraftAgain", put, path = "/api/v1/drafts/{id}", tag = "connectors", request_body = DraftRequest,
    params(IfMatchHeader),
    responses((status = 200, body = UnfinishedDraft), (status = 404, body = Problem), (status = 412, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn save_again(
    State(state): State<Arc<ServerState>>,
    Path(id): Path<Uuid>,
    who: Who,
    at: IfMatch,
    Body(request): Body<DraftRequest>,
) -> Result<Tagged<UnfinishedDraft>, Refusal> {
    let revision = at.to_change("the draft", state.database.find_draft(id).await?.entry.revision)?;
    Ok(present(state.database.replace_draft(id, revision, &input(request, who)?).await?))
}

/// Discards an unfinished draft.
#[utoipa::path(operation_id = "discardDraft", delete, path = "/api/v1/drafts/{id}", tag = "connectors", params(IfMatchHeader),
    responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn discard(
    State(state): State<Arc<ServerState>>,
    Path(id): Path<Uuid>,
    at: IfMatch,
) -> Result<StatusCode, Refusal> {
    at.holds("the draft", state.database.find_draft(id).await?.entry.revision)?;
    state.database.discard_draft(id).await?;
    Ok(StatusCode::NO_CONTENT)
}

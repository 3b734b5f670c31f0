//! The catalogue of problem types.

use axum::Json;
use gonvel_core::ports::PortError;
use gonvel_http_api::{Page, PagingQuery, Problem, ProblemEntry, ProblemType};

use crate::listing::{Listed, Unfiltered};
use crate::problems::{Path, Refusal};

/// All types of problems that a request may be refused with.
#[utoipa::path(operation_id = "listProblemTypes", get, path = "/api/v1/problems", tag = "server", params(PagingQuery),
    responses((status = 200, body = Page<ProblemEntry>)))]
pub(crate) async fn list(Listed { paging, .. }: Listed<Unfiltered>) -> Result<Json<Page<ProblemEntry>>, Refusal> {
    Ok(Json(paging.page_in_order(ProblemType::ALL.map(ProblemType::entry))?))
}

/// What a type of problem means, and what helps: the address that stands as `type` in a problem document.
#[utoipa::path(operation_id = "getProblemType", get, path = "/api/v1/problems/{code}", tag = "server",
    responses((status = 200, body = ProblemEntry), (status = 404, body = Problem)))]
pub(crate) async fn one(Path(code): Path<String>) -> Result<Json<ProblemEntry>, Refusal> {
    let found = ProblemType::ALL.into_iter().find(|kind| kind.code() == code);
    Ok(Json(found.ok_or_else(|| PortError::NotFound { what: format!("the type of problem {code}") })?.entry()))
}

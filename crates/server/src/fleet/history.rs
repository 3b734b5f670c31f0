//! What was done with a connector, and what it said.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use gonvel_core::civil::rfc3339;
use gonvel_core::naming::ConnectorId;
use gonvel_http_api::{Deed, LARGEST_LONG_PAGE, Line, LinesQuery, LongPagingQuery, Order, Page, Problem};
use gonvel_storage::catalog::history::LineFilter;

use crate::addressed::ConnectorAt;
use crate::listing::{Listed, Unfiltered};
use crate::problems::Refusal;
use crate::records::reading::asked_time;
use crate::state::ServerState;

/// What was done with a connector, the newest first; also of one that was deleted.
#[utoipa::path(operation_id = "listDeeds", get, path = "/api/v1/connectors/{connector}/history", tag = "connectors", params(LongPagingQuery),
    responses((status = 200, body = Page<Deed>), (status = 422, body = Problem)))]
pub(crate) async fn deeds(
    State(state): State<Arc<ServerState>>,
    ConnectorAt(id): ConnectorAt,
    Listed { paging, .. }: Listed<Unfiltered, LARGEST_LONG_PAGE>,
) -> Result<Json<Page<Deed>>, Refusal> {
    let done = state.database.history_of(id, paging.after()?, paging.to_read()).await?;
    let deed = |d: gonvel_storage::catalog::history::Done| Deed {
        number: d.number,
        at: rfc3339(d.at.timestamp_micros()),
        who: d.who,
        what: d.what,
        version: d.version,
        detail: d.detail,
    };
    Ok(Json(paging.page_of_read(done, |done| done.number).map(deed)))
}

/// A connector's log: the lines that fit, the newest first or the oldest.
#[utoipa::path(operation_id = "listLines", get, path = "/api/v1/connectors/{connector}/log", tag = "connectors", params(LinesQuery, LongPagingQuery),
    responses((status = 200, body = Page<Line>), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn lines(
    State(state): State<Arc<ServerState>>,
    ConnectorAt(id): ConnectorAt,
    Listed { which: query, paging }: Listed<LinesQuery, LARGEST_LONG_PAGE>,
) -> Result<Json<Page<Line>>, Refusal> {
    const LEVELS: [&str; 3] = ["info", "warning", "error"];
    let least = match query.level.as_deref() {
        None => 0,
        Some(level) => LEVELS
            .iter()
            .position(|l| *l == level)
            .ok_or_else(|| Refusal::invalid("level", format!("{level:?} is no level: give info, warning or error")))?,
    };
    state.database.find_connector(ConnectorId(id)).await?;
    let until = asked_time("until", query.until.as_ref())?.and_then(DateTime::<Utc>::from_timestamp_micros);
    let oldest = query.order == Order::Oldest;
    let from: Option<i64> = paging.after()?;
    let filter = LineFilter {
        lane: query.lane,
        levels: LEVELS[least..].iter().map(|l| (*l).to_owned()).collect(),
        text: query.text.filter(|t| !t.trim().is_empty()),
        until,
        after: query.after.max(from.filter(|_| oldest)),
        before: from.filter(|_| !oldest),
        oldest,
    };
    let lines = state.database.lines_of(ConnectorId(id), &filter, paging.to_read()).await?;
    let line = |l: gonvel_storage::catalog::history::KeptLine| Line {
        number: l.number,
        lane: l.lane,
        runner: l.runner,
        at: rfc3339(l.at.timestamp_micros()),
        level: l.level,
        says: l.says,
        facts: l.facts,
    };
    Ok(Json(paging.page_of_read(lines, |line| line.number).map(line)))
}

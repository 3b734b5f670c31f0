//! What was done with a connector, and what it said.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use gonvel_core::civil::rfc3339;
use gonvel_core::naming::ConnectorId;
use gonvel_http_api::{Deed, DeedsQuery, Line, LinesQuery, Problem};
use gonvel_storage::catalog::history::LineFilter;

use crate::addressed::ConnectorAt;
use crate::problems::{Query, Refusal};
use crate::records::reading::asked_time;
use crate::state::ServerState;

fn most(asked: Option<i64>, usual: i64) -> Result<i64, Refusal> {
    match asked.unwrap_or(usual) {
        most @ 1..=1_000 => Ok(most),
        most => Err(Refusal::invalid("most", format!("{most} at a time: give a number from 1 to 1000"))),
    }
}

/// What was done with a connector, the newest first; also of one that was deleted.
#[utoipa::path(operation_id = "listDeeds", get, path = "/api/v1/connectors/{connector}/history", tag = "connectors", params(DeedsQuery),
    responses((status = 200, body = [Deed]), (status = 422, body = Problem)))]
pub(crate) async fn deeds(
    State(state): State<Arc<ServerState>>,
    ConnectorAt(id): ConnectorAt,
    Query(query): Query<DeedsQuery>,
) -> Result<Json<Vec<Deed>>, Refusal> {
    let done = state.database.history_of(id, query.before, most(query.most, 100)?).await?;
    let deed = |d: gonvel_storage::catalog::history::Done| Deed {
        number: d.number,
        at: rfc3339(d.at.timestamp_micros()),
        who: d.who,
        what: d.what,
        version: d.version,
        detail: d.detail,
    };
    Ok(Json(done.into_iter().map(deed).collect()))
}

/// A connector's log: the newest lines that fit, in the order in which they were said.
#[utoipa::path(operation_id = "listLines", get, path = "/api/v1/connectors/{connector}/log", tag = "connectors", params(LinesQuery),
    responses((status = 200, body = [Line]), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn lines(
    State(state): State<Arc<ServerState>>,
    ConnectorAt(id): ConnectorAt,
    Query(query): Query<LinesQuery>,
) -> Result<Json<Vec<Line>>, Refusal> {
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
    let filter = LineFilter {
        lane: query.lane,
        levels: LEVELS[least..].iter().map(|l| (*l).to_owned()).collect(),
        text: query.text.filter(|t| !t.trim().is_empty()),
        until,
        after: query.after,
        before: query.before,
    };
    let lines = state.database.lines_of(ConnectorId(id), &filter, most(query.most, 200)?).await?;
    let line = |l: gonvel_storage::catalog::history::KeptLine| Line {
        number: l.number,
        lane: l.lane,
        runner: l.runner,
        at: rfc3339(l.at.timestamp_micros()),
        level: l.level,
        says: l.says,
        facts: l.facts,
    };
    Ok(Json(lines.into_iter().map(line).collect()))
}

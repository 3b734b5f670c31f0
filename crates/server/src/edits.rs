//! Changing a connector that is there: what a change will do, its versions, and going back to one.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use gonvel_core::civil::rfc3339;
use gonvel_core::connector::edit::{self, Consequences};
use gonvel_core::connector::{Definition, ValidConnector, Wish};
use gonvel_core::naming::{ConnectorId, ConnectorName};
use gonvel_http_api::{
    Connector, ConnectorChange, ConnectorVersion, Consequence, Page, PagingQuery, Plan, PlanQuery, Problem,
};
use gonvel_runtime::systems;
use gonvel_storage::catalog::connectors::Connector as Stored;

use crate::addressed::ConnectorAt;
use crate::connectors::{find, tagged};
use crate::listing::{Listed, Place, Unfiltered};
use crate::manifests::{KnownNames, names};
use crate::plans::{self, OrPlan};
use crate::preflights;
use crate::problems::{Body, Query, Refusal};
use crate::revisions::{IfMatch, IfMatchHeader, Tagged};
use crate::state::ServerState;
use crate::who::Who;

/// Checks another definition for a connector, and tells what it would do. A draft may become anything.
pub(crate) async fn judged(
    state: &ServerState,
    stored: &Stored,
    definition: Definition,
) -> Result<(ValidConnector, Consequences), Refusal> {
    let name = ConnectorName::parse(stored.name.clone())?;
    let connector = ValidConnector::check(stored.id, name, definition)?;
    if stored.wish == Wish::Draft {
        preflights::can_do(state, connector.definition()).await?;
        return Ok((connector, Consequences::new()));
    }
    // that of another connection is not asked for: a connector keeps its own, and what is wrong is told as that
    let kind = preflights::kind_of(state, &stored.definition).await?;
    let settled = |definition: &Definition| match &kind {
        Some(kind) => systems::settled(kind, definition),
        None => definition.clone(),
    };
    let (was, is) = (settled(&stored.definition), settled(connector.definition()));
    let mut consequences = edit::consequences(&was, &is).map_err(|e| Refusal::invalid("definition", e.to_string()))?;
    preflights::can_do(state, connector.definition()).await?;
    if let (Definition::Source(from), Definition::Source(to)) = (&was, &is)
        && from.values != to.values
        && to.load.rows
    {
        let found: Vec<String> = stored.found().map(|(name, _)| name).filter(|name| to.finds(name)).cloned().collect();
        if !found.is_empty() {
            consequences.entry(edit::Consequence::LoadsAgain).or_default().extend(found);
        }
    }
    Ok((connector, consequences))
}

async fn plan_of(state: &ServerState, stored: &Stored, to: &Definition, found: &Consequences) -> Result<Plan, Refusal> {
    let names: KnownNames = names(state).await?;
    let consequences = found.iter().map(|(kind, concerns)| Consequence {
        kind: serde_json::to_value(kind).ok().and_then(|k| k.as_str().map(str::to_owned)).unwrap_or_default(),
        says: kind.sentence().into(),
        concerns: concerns.clone(),
    });
    Ok(Plan {
        // rows that are there go
        needs_confirming: found.contains_key(&edit::Consequence::EmptiesNew),
        says: found.keys().map(|kind| kind.sentence().into()).collect(),
        consequences: consequences.collect(),
        before: Some(gonvel_manifests::connector_text::write(&stored.name, &stored.definition, &names)),
        after: Some(gonvel_manifests::connector_text::write(&stored.name, to, &names)),
        ..Plan::default()
    })
}

/// Makes another definition a connector's next version, if it is still the version it was made from. One that runs must pass
/// its preflight with it, and starts anew where it stands.
#[utoipa::path(operation_id = "changeConnector", put, path = "/api/v1/connectors/{connector}", tag = "connectors", request_body = ConnectorChange,
    params(PlanQuery, IfMatchHeader),
    responses((status = 200, body = Connector), (status = 404, body = Problem), (status = 412, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn change(
    State(state): State<Arc<ServerState>>,
    ConnectorAt(id): ConnectorAt,
    who: Who,
    Query(query): Query<PlanQuery>,
    at: IfMatch,
    Body(request): Body<ConnectorChange>,
) -> Result<OrPlan<Tagged<Connector>>, Refusal> {
    let stored = state.database.find_connector(ConnectorId(id)).await?;
    let version = at.to_change(&format!("the connector {}", stored.name), stored.version)?;
    let (connector, consequences) = judged(&state, &stored, request.definition.clone()).await?;
    let plan = plan_of(&state, &stored, connector.definition(), &consequences).await?;
    let of = ("changeConnector", id, stored.version, connector.definition());
    if let Some(plan) = plans::settle(&query, plan, &of, Vec::new())? {
        return Ok(OrPlan::Plan(plan));
    }
    change_to(&state, &stored, &connector, &consequences, version, &who.0).await?;
    find(&state, id).await.map(tagged).map(OrPlan::Done)
}

/// Makes another definition a connector's next version.
pub(crate) async fn change_to(
    state: &ServerState,
    stored: &Stored,
    connector: &ValidConnector,
    consequences: &Consequences,
    version: i32,
    who: &str,
) -> Result<(), Refusal> {
    if *connector.definition() == stored.definition {
        return Ok(());
    }
    let report = if stored.wish == Wish::Run {
        let report = preflights::check(state, connector.definition(), Some(stored.id)).await?;
        if !report.ready() {
            return Err(Refusal::preflight(report.checks));
        }
        Some(report)
    } else {
        None
    };
    let again = consequences.get(&edit::Consequence::LoadsAgain).cloned().unwrap_or_default();
    state.database.change_connector(connector, version, &again, who).await?;
    if let Some(report) = &report {
        state.database.keep_report(stored.id, report).await?;
    }
    state.nudge.notify_one();
    Ok(())
}

/// All versions of a connector's definition, the newest first.
#[utoipa::path(operation_id = "listConnectorVersions", get, path = "/api/v1/connectors/{connector}/versions", tag = "connectors",
    params(PagingQuery), responses((status = 200, body = Page<ConnectorVersion>), (status = 404, body = Problem)))]
pub(crate) async fn versions(
    State(state): State<Arc<ServerState>>,
    ConnectorAt(id): ConnectorAt,
    Listed { paging, .. }: Listed<Unfiltered>,
) -> Result<Json<Page<ConnectorVersion>>, Refusal> {
    let stored = state.database.find_connector(ConnectorId(id)).await?;
    let names = names(&state).await?;
    let all = state.database.versions(ConnectorId(id)).await?;
    let page = paging.page(all, true, |version| Place::numbered(version.version.into(), ""))?;
    Ok(Json(page.map(|version| ConnectorVersion {
        version: version.version,
        manifest: gonvel_manifests::connector_text::write(&stored.name, &version.definition, &names),
        definition: version.definition.clone(),
        made_at: rfc3339(version.made_at.timestamp_micros()),
    })))
}

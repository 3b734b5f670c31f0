//! Quarantine: records that could not be handled, and what becomes of them.

use std::collections::HashMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use base64::Engine as _;
use bytes::Bytes;
use chrono::{TimeDelta, Utc};
use gonvel_core::civil::rfc3339;
use gonvel_core::naming::{ConnectorId, Offset, SchemaId};
use gonvel_core::record::StoredRecord;
use gonvel_http_api::{
    Affected, Cause, CausesQuery, DiscardRequest, LARGEST_RECORD_PAGE, MendRecord, ObjectKind, Operation, OperationKind,
    Page, PagingQuery, Plan, PlanQuery, Problem, ProblemType, QuarantineQuery, QuarantinedRecord, RecordHeader,
    RecordPagingQuery, RetryRequest, WhichRecords,
};
use gonvel_storage::operations::NewOperation;
use gonvel_storage::quarantine::{Kept, Which};
use serde_json::json;
use uuid::Uuid;

use crate::creating::{Creating, KeyHeader};
use crate::listing::{Listed, Place};
use crate::operations::{self, Begun, subject, word};
use crate::plans::{self, OrPlan, counted};
use crate::problems::{Body, Path, Query, Refusal};
use crate::records::Decoder;
use crate::state::ServerState;
use crate::who::Who;

/// A fingerprint as it is shown: numbers of JSON lose digits.
fn shown(cause: i64) -> String {
    format!("{:016x}", cause.cast_unsigned())
}

/// A fingerprint as it was shown.
pub(crate) fn asked(cause: &str) -> Result<i64, Refusal> {
    let read = u64::from_str_radix(cause, 16).map(u64::cast_signed);
    read.map_err(|_| Refusal::invalid("cause", format!("{cause:?} is no cause: take one of /api/v1/quarantine/causes")))
}

fn which(which: &WhichRecords) -> Result<Which, Refusal> {
    match (which.ids.is_empty(), which.connector, &which.cause) {
        (false, None, None) => Ok(Which::Ids(which.ids.clone())),
        (true, Some(connector), Some(cause)) => Ok(Which::Cause(ConnectorId(connector), asked(cause)?)),
        (true, Some(connector), None) => Ok(Which::All(ConnectorId(connector))),
        _ => Err(Refusal::invalid("which", "give ids, or a connector, or a connector and a cause of it")),
    }
}

/// What waits, by connector and cause, the most recent first.
#[utoipa::path(operation_id = "listCauses", get, path = "/api/v1/quarantine/causes", tag = "quarantine", params(CausesQuery, PagingQuery),
    responses((status = 200, body = Page<Cause>)))]
pub(crate) async fn causes(
    State(state): State<Arc<ServerState>>,
    Listed { which: query, paging }: Listed<CausesQuery>,
) -> Result<Json<Page<Cause>>, Refusal> {
    let names: HashMap<Uuid, String> = state.database.connectors().await?.into_iter().map(|c| (c.id.0, c.name)).collect();
    let soon = Utc::now() + TimeDelta::days(1);
    let cause = |c: gonvel_storage::quarantine::Cause| Cause {
        name: names.get(&c.connector_id).cloned().unwrap_or_default(),
        connector: c.connector_id,
        cause: shown(c.cause),
        step: c.step,
        finding: c.finding,
        topics: c.topics,
        waiting: c.waiting,
        asked: c.asked,
        first_at: rfc3339(c.first_at.timestamp_micros()),
        last_at: rfc3339(c.last_at.timestamp_micros()),
        expires_at: rfc3339(c.expires_at.timestamp_micros()),
        expires_soon: c.expires_at < soon,
        by_hour: c.by_hour,
        newest: c.newest,
    };
    let causes = state.database.causes(query.connector.map(ConnectorId)).await?;
    let at = |cause: &gonvel_storage::quarantine::Cause| {
        Place::numbered(cause.last_at.timestamp_micros(), &format!("{} {:016x}", cause.connector_id, cause.cause))
    };
    Ok(Json(paging.page(causes, true, at)?.map(cause)))
}

async fn present(state: &ServerState, decoder: &mut Decoder, kept: Kept) -> Result<QuarantinedRecord, Refusal> {
    let placed = StoredRecord { offset: Offset(kept.record_offset), record: kept.record() };
    decoder.learn(state, &placed).await?;
    let record = &placed.record;
    let mended = kept.mended.map(Bytes::from);
    let header = |h: &gonvel_core::record::Header| RecordHeader {
        name: h.name.clone(),
        value: String::from_utf8_lossy(&h.value).into_owned(),
        value_base64: Some(base64::engine::general_purpose::STANDARD.encode(&h.value)),
    };
    Ok(QuarantinedRecord {
        id: kept.id,
        connector: kept.connector_id,
        topic: kept.topic,
        partition: kept.partition,
        offset: (kept.record_offset >= 0).then_some(kept.record_offset),
        timestamp: rfc3339(kept.timestamp_us),
        key: decoder.text(record.key.as_ref(), record.key_schema),
        value: decoder.text(record.value.as_ref(), record.schema),
        mended: mended.as_ref().map(|m| decoder.text(Some(m), record.schema)),
        headers: record.headers.iter().map(header).collect(),
        schema: kept.value_schema,
        bytes: record.key.as_ref().map_or(0, Bytes::len) + record.value.as_ref().map_or(0, Bytes::len),
        step: kept.step,
        finding: kept.finding,
        cause: shown(kept.cause),
        version: kept.version,
        state: kept.state,
        tries: kept.tries,
        put_at: rfc3339(kept.put_at.timestamp_micros()),
        settled_at: kept.settled_at.map(|at| rfc3339(at.timestamp_micros())),
        settled_by: kept.settled_by.filter(|who| !who.is_empty()),
        reason: kept.reason,
        expires_at: rfc3339(kept.expires_at.timestamp_micros()),
    })
}

/// Records in quarantine, in order of their numbers.
#[utoipa::path(operation_id = "listQuarantined", get, path = "/api/v1/quarantine/records", tag = "quarantine", params(QuarantineQuery, RecordPagingQuery),
    responses((status = 200, body = Page<QuarantinedRecord>), (status = 422, body = Problem)))]
pub(crate) async fn records(
    State(state): State<Arc<ServerState>>,
    Listed { which: query, paging }: Listed<QuarantineQuery, LARGEST_RECORD_PAGE>,
) -> Result<Json<Page<QuarantinedRecord>>, Refusal> {
    const STATES: [&str; 5] = ["waiting", "asked", "delivered", "discarded", "superseded"];
    let states: Vec<&str> = match query.state.as_deref() {
        None => STATES[..2].to_vec(),
        Some("all") => STATES.to_vec(),
        Some(state) => match STATES.iter().find(|s| **s == state) {
            Some(state) => vec![state],
            None => {
                let words = STATES.join(", ");
                return Err(Refusal::invalid("state", format!("{state:?} is no state: give {words} or all")));
            }
        },
    };
    let cause = query.cause.as_deref().map(asked).transpose()?;
    let (connector, after) = (query.connector.map(ConnectorId), paging.after()?.unwrap_or(0));
    let kept = state.database.quarantined(connector, cause, &states, after, paging.to_read()).await?;
    let Page { items: kept, next } = paging.page_of_read(kept, |kept| kept.id);
    let mut decoder = Decoder::new(false);
    let mut out = Vec::with_capacity(kept.len());
    for kept in kept {
        out.push(present(&state, &mut decoder, kept).await?);
    }
    Ok(Json(Page { items: out, next }))
}

async fn whole(state: &ServerState, id: i64) -> Result<QuarantinedRecord, Refusal> {
    let kept = state.database.quarantined_record(id).await?;
    present(state, &mut Decoder::new(false), kept).await
}

/// One record in quarantine.
#[utoipa::path(operation_id = "getQuarantined", get, path = "/api/v1/quarantine/records/{id}", tag = "quarantine",
    responses((status = 200, body = QuarantinedRecord), (status = 404, body = Problem)))]
pub(crate) async fn record(
    State(state): State<Arc<ServerState>>,
    Path(id): Path<i64>,
) -> Result<Json<QuarantinedRecord>, Refusal> {
    whole(&state, id).await.map(Json)
}

/// Gives a record that waits another value, by the schema that wrote it; the record in its topic stays as it is.
#[utoipa::path(operation_id = "mendQuarantined", put, path = "/api/v1/quarantine/records/{id}/mended", tag = "quarantine", request_body = MendRecord,
    responses((status = 200, body = QuarantinedRecord), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn mend(
    State(state): State<Arc<ServerState>>,
    Path(id): Path<i64>,
    Body(request): Body<MendRecord>,
) -> Result<Json<QuarantinedRecord>, Refusal> {
    let kept = state.database.quarantined_record(id).await?;
    if kept.record_offset < 0 {
        let finding =
            "only the key of a source's row waits: mend the row in its table, or change the shape, and try it again";
        return Err(Refusal::invalid("value", finding));
    }
    let bytes = match &request.value {
        None => None,
        Some(value) => {
            let schema = match kept.value_schema {
                Some(schema) => state.schema(SchemaId(schema)).await?,
                None => None,
            };
            let bytes = match schema {
                Some(schema) => schema.write_text(value.get()).map_err(|finding| Refusal::invalid("value", finding))?,
                None => Bytes::copy_from_slice(value.get().as_bytes()),
            };
            Some(bytes)
        }
    };
    state.database.mend(id, bytes.as_deref()).await?;
    whole(&state, id).await.map(Json)
}

/// Asks for records that wait to be tried again, as an operation. Their connector does so as soon as it runs, in the order of their
/// offsets; one whose key was delivered anew since is superseded and is not. Cancelled, those that were not tried yet wait on.
#[utoipa::path(operation_id = "retryQuarantined", post, path = "/api/v1/quarantine/retry", tag = "quarantine", request_body = RetryRequest,
    params(PlanQuery, KeyHeader),
    responses((status = 202, body = Operation), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn retry(
    State(state): State<Arc<ServerState>>,
    who: Who,
    Query(query): Query<PlanQuery>,
    Creating(creation, request): Creating<RetryRequest>,
) -> Result<OrPlan<Begun>, Refusal> {
    if request.per_second.is_some_and(|pace| !(1..=100_000).contains(&pace)) {
        return Err(Refusal::invalid("per_second", "give a number from 1 to 100000, or none for as fast as they go"));
    }
    let which = which(&request.which)?;
    if plans::looked_at(&query) {
        let (waiting, _) = state.database.count_waiting(&which).await?;
        let plan = Plan {
            says: vec![format!("It tries {} again.", counted(waiting, "record"))],
            repeated: waiting,
            ..Plan::default()
        };
        if let Some(plan) = plans::settle(&query, plan, &("retryQuarantined", &request), Vec::new())? {
            return Ok(OrPlan::Plan(plan));
        }
    }
    let begun = operations::begin(&state, creation, async |database| {
        let connector = match which {
            Which::Cause(connector, _) | Which::All(connector) => Some(connector),
            Which::Ids(_) => None,
        };
        let name = match connector {
            Some(connector) => Some(state.database.find_connector(connector).await?.name),
            None => None,
        };
        let subject = name.as_ref().and_then(|name| subject(ObjectKind::Connector, connector.map(|c| c.0), name));
        let says = match (&which, &name) {
            (Which::Cause(..), Some(name)) => format!("Tries the records again that {name} failed with for one cause"),
            (_, Some(name)) => format!("Tries all records again that wait in the quarantine of {name}"),
            _ => "Tries records again that were chosen in quarantine".to_owned(),
        };
        let kind = word(OperationKind::Retry);
        let new = NewOperation { kind, says: &says, who: &who.0, subject, connector, total: None, result: json!({}) };
        let (_, id) = database.retry_as(&which, request.per_second, Some(&new)).await?;
        state.nudge.notify_one();
        id.ok_or_else(|| Refusal::new(ProblemType::Failed, "the operation did not begin"))
    });
    Ok(OrPlan::Done(begun.await?))
}

/// Gives records up that wait, which has to be confirmed. They stay to be looked at until they are forgotten.
#[utoipa::path(operation_id = "discardQuarantined", post, path = "/api/v1/quarantine/discard", tag = "quarantine", request_body = DiscardRequest,
    params(PlanQuery),
    responses((status = 200, body = Affected), (status = 422, body = Problem)))]
pub(crate) async fn discard(
    State(state): State<Arc<ServerState>>,
    who: Who,
    Query(query): Query<PlanQuery>,
    Body(request): Body<DiscardRequest>,
) -> Result<OrPlan<Json<Affected>>, Refusal> {
    let which = which(&request.which)?;
    // what comes after the plan was shown was not seen, and waits on
    let decided = plans::decided(&query)?.and_then(|decided| decided.first().copied());
    let (waiting, newest) = state.database.count_waiting(&which).await?;
    let newest = decided.unwrap_or(newest);
    let says = vec![format!("It gives up {}, never to be delivered.", counted(waiting, "record"))];
    let plan = Plan { needs_confirming: waiting > 0, says, records: waiting, ..Plan::default() };
    if let Some(plan) = plans::settle(&query, plan, &("discardQuarantined", &request.which), vec![newest])? {
        return Ok(OrPlan::Plan(plan));
    }
    let reason = request.reason.trim();
    if reason.is_empty() || reason.chars().count() > 1_000 {
        return Err(Refusal::invalid("reason", "say in up to 1000 characters why these records are given up"));
    }
    let records = state.database.discard(&which, newest, &who.0, reason).await?;
    Ok(OrPlan::Done(Json(Affected { records })))
}

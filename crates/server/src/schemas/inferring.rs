//! Schemas from data: the newest values of a topic, values that are sent along, a table's columns.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use gonvel_core::connector::{CapturedTable, Encoding, ValueForm, Values};
use gonvel_core::naming::TopicName;
use gonvel_core::ports::{FleetStore, PortError, TopicLog};
use gonvel_core::schemas::Language;
use gonvel_core::schemas::infer::{Shape, of_table};
use gonvel_http_api::{InferRequest, InferSource, Inferred, Problem};
use serde_json::Value;

use crate::problems::{Body, Refusal, name_at};
use crate::records::{Decoder, Newest};
use crate::state::ServerState;

/// Values looked at, if nothing else is said.
const USUAL: i64 = 1_000;
const MOST: i64 = 20_000;

/// Infers a schema; nothing is registered.
#[utoipa::path(operation_id = "inferSchema", post, path = "/api/v1/schemas/infer", tag = "schemas", request_body = InferRequest,
    responses((status = 200, body = Inferred), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn infer(
    State(state): State<Arc<ServerState>>,
    Body(request): Body<InferRequest>,
) -> Result<Json<Inferred>, Refusal> {
    let language = request.language;
    if language == Language::Protobuf {
        let detail = "a Protocol Buffers schema is not inferred: the numbers of its fields are a promise that no data holds. Take Avro or JSON Schema";
        return Err(Refusal::invalid("language", detail));
    }
    let named = |otherwise: &str| if request.name.is_empty() { otherwise.to_owned() } else { request.name.clone() };
    let values = match &request.from {
        InferSource::Table(table) => {
            let address = state.database.address(table.connection).await?;
            let captured = CapturedTable::whole(&table.schema, &table.table, "row");
            let shape = Arc::new(state.reached().describe(&address, &captured).await?);
            let text = if language == Language::Avro {
                let how = Values { form: ValueForm::Row, encoding: Encoding::Avro };
                pretty(gonvel_core::record_form::RecordForm::of(shape, how).value_text())
            } else {
                of_table(&shape)
            };
            return Ok(Json(Inferred { text, values: None }));
        }
        InferSource::Sample(text) => (sample(text)?, named("Value")),
        InferSource::Topic(topic) => {
            let records = topic.records.unwrap_or(USUAL);
            if !(1..=MOST).contains(&records) {
                return Err(Refusal::invalid("records", format!("{records} records: ask for 1 to {MOST}")));
            }
            (newest(&state, &topic.name, usize::try_from(records).unwrap_or(1)).await?, named(&topic.name))
        }
    };
    let (values, name) = values;
    if values.is_empty() {
        return Err(Refusal::invalid("from", "there are no values to look at: the topic or the sample is empty"));
    }
    let count = i64::try_from(values.len()).ok();
    // looking at many values is work for the processor
    let text = tokio::task::spawn_blocking(move || {
        let mut shape = Shape::default();
        values.iter().for_each(|value| shape.see(value));
        shape.schema(language, &name).unwrap_or_default()
    });
    let text = text.await.map_err(|e| PortError::TryAgain { during: "looking at values", cause: Box::new(e) })?;
    Ok(Json(Inferred { text, values: count }))
}

fn pretty(text: &str) -> String {
    let json: Result<Value, _> = serde_json::from_str(text);
    json.and_then(|json| serde_json::to_string_pretty(&json)).unwrap_or_else(|_| text.to_owned())
}

/// Values of a JSON list, or one on each line.
fn sample(text: &str) -> Result<Vec<Value>, Refusal> {
    if let Ok(Value::Array(values)) = serde_json::from_str(text) {
        return Ok(values);
    }
    if let Ok(one) = serde_json::from_str::<Value>(text) {
        return Ok(vec![one]);
    }
    let lines = text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty());
    lines
        .map(|(number, line)| {
            serde_json::from_str(line).map_err(|e| {
                let column = e.column();
                Refusal::invalid("from", format!("line {}, column {column} of the sample is not JSON: {e}", number + 1))
            })
        })
        .collect()
}

async fn newest(state: &ServerState, topic: &str, most: usize) -> Result<Vec<Value>, Refusal> {
    let topic = state.database.topic(&TopicName::parse(topic).map_err(name_at("from"))?).await?;
    let (mut values, mut decoder) = (Vec::new(), Decoder::default());
    let mut newest = Newest::of(state, &topic, most).await?;
    while let Some((_, piece)) = newest.piece(state).await? {
        decoder.learn_all(state, &piece).await?;
        let some = piece.iter().filter(|p| p.record.value.is_some());
        values.extend(some.map(|p| decoder.json(p.record.value.as_ref(), p.record.schema)));
    }
    values.truncate(most);
    Ok(values)
}

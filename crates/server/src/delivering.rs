//! What a topic's newest records become in a target, before a sink writes any.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use gonvel_core::avro::single_object;
use gonvel_core::change::ChangeBatchBuilder;
use gonvel_core::delivered;
use gonvel_core::naming::TopicName;
use gonvel_core::ports::{SchemaStore, TopicLog};
use gonvel_core::record::StoredRecord as Placed;
use gonvel_core::record_form::ReadForm;
use gonvel_http_api::{DeliverySample, DeliverySampleRequest, DeliverySampleRow, Problem};

use crate::presenting;
use crate::problems::{Body, Refusal};
use crate::records::Newest;
use crate::state::ServerState;

/// Records looked at.
const RECORDS: usize = 8;

/// What a topic's newest records would become in a sink's way of writing. Nothing is written.
#[utoipa::path(operation_id = "sampleDelivery", post, path = "/api/v1/topics/{name}/delivery-sample", tag = "topics",
    request_body = DeliverySampleRequest, responses((status = 200, body = DeliverySample), (status = 404, body = Problem)))]
pub(crate) async fn sample(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Body(request): Body<DeliverySampleRequest>,
) -> Result<Json<DeliverySample>, Refusal> {
    let topic = state.database.topic(&TopicName::parse(name)?).await?;
    let mut newest: Vec<Placed> = Vec::new();
    let mut pieces = Newest::of_each(&state, topic.id, RECORDS).await?;
    while let Some((_, piece)) = pieces.piece(&state).await? {
        newest.extend(piece);
    }
    newest.sort_by_key(|placed| std::cmp::Reverse((placed.record.timestamp_us, placed.offset)));
    newest.truncate(RECORDS);
    newest.reverse();
    let nothing =
        |finding: Option<&str>| Json(DeliverySample { records: 0, rows: Vec::new(), finding: finding.map(str::to_owned) });
    let Some(last) = newest.last() else { return Ok(nothing(None)) };
    // of the shape that records have now
    let schema = last.record.schema;
    newest.retain(|placed| placed.record.schema == schema);
    let not_a_change = "its records are neither changes nor rows of a table, so they cannot be delivered to one";
    let Some(schema) = schema else { return Ok(nothing(Some(not_a_change))) };
    let text = state.database.schema_text(schema).await?;
    let Ok(form) = ReadForm::from_value_text(&text) else { return Ok(nothing(Some(not_a_change))) };
    let mut builder = ChangeBatchBuilder::new(form.table().clone());
    let mut keys = Vec::with_capacity(newest.len());
    for Placed { record, .. } in &newest {
        let key = record.key.as_deref().unwrap_or_default();
        if form.read(key, record.value.as_deref(), record.timestamp_us, &mut builder).is_err() {
            return Ok(nothing(Some("a record cannot be read by the schema it names")));
        }
        keys.push(single_object::split(key).map_or(key, |(_, data)| data).to_vec());
    }
    let writes = presenting::asked_writes(request.writes);
    let rows = delivered::rows(&builder.finish(), &keys, writes).into_iter();
    let rows = rows.map(|row| DeliverySampleRow { how: row.how.to_owned(), cells: row.cells.into() }).collect();
    Ok(Json(DeliverySample { records: i64::try_from(newest.len()).unwrap_or(0), rows, finding: None }))
}

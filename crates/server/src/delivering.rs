//! What a topic's newest records become in a target, before a sink writes any.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use gonvel_core::avro::single_object;
use gonvel_core::delivered;
use gonvel_core::naming::TopicName;
use gonvel_core::ports::TopicLog;
use gonvel_core::record::StoredRecord;
use gonvel_http_api::{DeliverySample, DeliverySampleRequest, DeliverySampleRow, Problem};

use crate::presenting;
use crate::problems::{Body, Refusal};
use crate::records::{NewestChanges, NoChanges, newest_changes};
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
    let nothing =
        |finding: Option<&str>| Json(DeliverySample { records: 0, rows: Vec::new(), finding: finding.map(str::to_owned) });
    let NewestChanges { batch, records } = match newest_changes(&state, &topic, RECORDS).await? {
        Ok(found) => found,
        Err(NoChanges::Empty) => return Ok(nothing(None)),
        Err(NoChanges::Other(finding)) => {
            return Ok(nothing(Some(&format!("{finding}, so they cannot be delivered to one"))));
        }
    };
    let key = |placed: &StoredRecord| {
        let key = placed.record.key.as_deref().unwrap_or_default();
        single_object::split(key).map_or(key, |(_, data)| data).to_vec()
    };
    let keys: Vec<Vec<u8>> = records.iter().map(key).collect();
    let writes = presenting::asked_writes(request.writes);
    let rows = delivered::rows(&batch, &keys, writes).into_iter();
    let rows = rows.map(|row| DeliverySampleRow { how: row.how.to_owned(), cells: row.cells.into() }).collect();
    Ok(Json(DeliverySample { records: i64::try_from(records.len()).unwrap_or(0), rows, finding: None }))
}

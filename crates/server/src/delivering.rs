//! What a topic's newest records become in a target, before a sink writes any.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use gonvel_core::avro::single_object;
use gonvel_core::change::ChangeBatch;
use gonvel_core::connector::TargetRows;
use gonvel_core::delivered;
use gonvel_core::naming::TopicName;
use gonvel_core::ports::TopicLog;
use gonvel_core::record::StoredRecord;
use gonvel_http_api::{DeliverySample, DeliverySampleRequest, DeliverySampleRow, Problem};

use crate::event_rows::newest_rows;
use crate::problems::{Body, Path, Refusal};
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
    let writes = request.writes;
    let shown = |batch: &ChangeBatch, keys: &[Vec<u8>], records: usize| {
        let rows = delivered::rows(batch, keys, writes).into_iter();
        let rows = rows.map(|row| DeliverySampleRow { how: row.how.to_owned(), cells: row.cells.into() }).collect();
        Json(DeliverySample { records: i64::try_from(records).unwrap_or(0), rows, finding: None })
    };
    if let Some(rows) = &request.rows {
        let (batch, keys) = newest_rows(&state, &topic, rows, RECORDS).await?;
        let mut sample = shown(&batch, &keys, keys.len());
        if writes.rows == TargetRows::Appended {
            // an event always brings all that it says
            for row in &mut sample.0.rows {
                row.cells.as_object_mut().map(|cells| cells.shift_remove("unchanged"));
            }
        }
        return Ok(sample);
    }
    let NewestChanges { batch, records } = match newest_changes(&state, &topic, RECORDS).await? {
        Ok(found) => found,
        Err(NoChanges::Empty) => return Ok(nothing(None)),
        Err(NoChanges::Other(finding)) => {
            return Ok(nothing(Some(&format!("{finding}, so choose how events become rows"))));
        }
    };
    let key = |placed: &StoredRecord| {
        let key = placed.record.key.as_deref().unwrap_or_default();
        single_object::split(key).map_or(key, |(_, data)| data).to_vec()
    };
    let keys: Vec<Vec<u8>> = records.iter().map(key).collect();
    Ok(shown(&batch, &keys, records.len()))
}

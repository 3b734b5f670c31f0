//! Records that could not be handled.

use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

use crate::RecordHeader;

/// Records of one connector that failed for one cause.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Cause {
    /// The connector.
    pub connector: Uuid,
    /// Its name.
    pub name: String,
    /// The fingerprint of the cause, in hexadecimal digits.
    pub cause: String,
    /// What was being done: `read` or `write`.
    pub step: String,
    /// What was found with the newest of them, and what to do.
    pub finding: String,
    /// The topics they are of.
    pub topics: Vec<String>,
    /// Records that wait.
    pub waiting: i64,
    /// Records that are asked to be tried again.
    pub asked: i64,
    /// When the first of them came.
    #[schema(format = DateTime)]
    pub first_at: String,
    /// When the last of them came.
    #[schema(format = DateTime)]
    pub last_at: String,
    /// When the first of them will be forgotten.
    #[schema(format = DateTime)]
    pub expires_at: String,
    /// Whether that is within a day.
    pub expires_soon: bool,
    /// How many came in each of the last 24 hours, the oldest first.
    pub by_hour: Vec<i64>,
    /// The number of the newest.
    pub newest: i64,
}

/// A record in quarantine.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct QuarantinedRecord {
    /// Its number.
    pub id: i64,
    /// The connector.
    pub connector: Uuid,
    /// Its topic.
    pub topic: String,
    /// Its partition.
    pub partition: i32,
    /// Its offset; none where it is a row of a source, which stands in no topic yet: it waits by its key.
    pub offset: Option<i64>,
    /// Its time.
    pub timestamp: String,
    /// Its key.
    #[schema(value_type = Object)]
    pub key: Box<RawValue>,
    /// Its value.
    #[schema(value_type = Object)]
    pub value: Box<RawValue>,
    /// Its value as it was mended; none if it was not.
    #[schema(value_type = Option<Object>)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mended: Option<Box<RawValue>>,
    /// Its headers.
    pub headers: Vec<RecordHeader>,
    /// The schema version that wrote its value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schema: Option<i64>,
    /// Bytes of its key and value.
    pub bytes: usize,
    /// What was being done: `read` or `write`.
    pub step: String,
    /// What was found, and what to do.
    pub finding: String,
    /// The fingerprint of the cause, in hexadecimal digits.
    pub cause: String,
    /// The version of the connector's configuration it failed with.
    pub version: i32,
    /// `waiting`, `asked` (to be tried again), `delivered`, `discarded` or `superseded` (by a newer record of its key).
    pub state: String,
    /// How often it was tried again.
    pub tries: i32,
    /// When it came.
    #[schema(format = DateTime)]
    pub put_at: String,
    /// When it was settled.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(format = DateTime)]
    pub settled_at: Option<String>,
    /// Who discarded it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub settled_by: Option<String>,
    /// Why it was discarded.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// When it will be forgotten.
    #[schema(format = DateTime)]
    pub expires_at: String,
}

/// Which records in quarantine are asked for.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct QuarantineQuery {
    /// Of this connector.
    pub connector: Option<Uuid>,
    /// Of this cause.
    pub cause: Option<String>,
    /// In this state; those that wait or are asked for without it. `all` for every state.
    pub state: Option<String>,
}

/// Which connector's causes are asked for.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct CausesQuery {
    /// Of this connector; of all without it.
    pub connector: Option<Uuid>,
}

/// Records in quarantine: by their numbers, by a connector's cause, or all that wait of a connector.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct WhichRecords {
    /// These.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub ids: Vec<i64>,
    /// Of this connector.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub connector: Option<Uuid>,
    /// Of this cause of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cause: Option<String>,
}

/// Records that are to be tried again.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RetryRequest {
    /// Which.
    pub which: WhichRecords,
    /// At most so many a second; as fast as they go without it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub per_second: Option<i32>,
}

/// Records that are given up.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DiscardRequest {
    /// Which.
    pub which: WhichRecords,
    /// Why.
    pub reason: String,
}

/// Another value for a record.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MendRecord {
    /// The value; none takes a mending back.
    #[schema(value_type = Option<Object>)]
    pub value: Option<Box<RawValue>>,
}

/// How many records it was about.
#[derive(Debug, Clone, Copy, Serialize, Deserialize, ToSchema)]
pub struct Affected {
    /// Records.
    pub records: usize,
}

//! Quarantine: records that could not be handled, as they are kept. Lanes put them there and take them up again (`of_lanes`); people look
//! at them, by cause, and ask for what is to become of them (`of_people`).

mod of_lanes;
mod of_people;

use bytes::Bytes;
use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types::{Binary, Int4, Int8, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel_async::RunQueryDsl;
use gonvel_core::naming::SchemaId;
use gonvel_core::ports::PortError;
use gonvel_core::record::{Header, Record};
use uuid::Uuid;

use crate::Database;
use crate::failing::failed;

pub use of_people::{Cause, Which};

/// A record in quarantine, as it is listed.
#[derive(Debug, Clone, QueryableByName)]
pub struct Kept {
    /// Its number.
    #[diesel(sql_type = Int8)]
    pub id: i64,
    /// The connector.
    #[diesel(sql_type = SqlUuid)]
    pub connector_id: Uuid,
    /// Its topic.
    #[diesel(sql_type = Int8)]
    pub topic_id: i64,
    /// Its topic's name.
    #[diesel(sql_type = Text)]
    pub topic: String,
    /// Its partition.
    #[diesel(sql_type = Int4)]
    pub partition: i32,
    /// Its offset.
    #[diesel(sql_type = Int8)]
    pub record_offset: i64,
    /// Its time, in microseconds since 1970-01-01 UTC.
    #[diesel(sql_type = Int8)]
    pub timestamp_us: i64,
    /// Its key.
    #[diesel(sql_type = Nullable<Binary>)]
    pub key: Option<Vec<u8>>,
    /// Its value.
    #[diesel(sql_type = Nullable<Binary>)]
    pub value: Option<Vec<u8>>,
    /// Its headers: names and values in base64.
    #[diesel(sql_type = Jsonb)]
    pub headers: serde_json::Value,
    /// The version that wrote its value.
    #[diesel(sql_type = Nullable<Int8>)]
    pub value_schema: Option<i64>,
    /// The version that wrote its key.
    #[diesel(sql_type = Nullable<Int8>)]
    pub key_schema: Option<i64>,
    /// Its value as it was mended.
    #[diesel(sql_type = Nullable<Binary>)]
    pub mended: Option<Vec<u8>>,
    /// What was being done.
    #[diesel(sql_type = Text)]
    pub step: String,
    /// What was found.
    #[diesel(sql_type = Text)]
    pub finding: String,
    /// The fingerprint of what went wrong.
    #[diesel(sql_type = Int8)]
    pub cause: i64,
    /// The version of the connector's configuration.
    #[diesel(sql_type = Int4)]
    pub version: i32,
    /// `waiting`, `asked`, `delivered`, `discarded` or `superseded`.
    #[diesel(sql_type = Text)]
    pub state: String,
    /// How often it was tried again.
    #[diesel(sql_type = Int4)]
    pub tries: i32,
    /// How many a second are to be tried at most, if it is asked for.
    #[diesel(sql_type = Nullable<Int4>)]
    pub pace: Option<i32>,
    /// When it came.
    #[diesel(sql_type = Timestamptz)]
    pub put_at: DateTime<Utc>,
    /// When it was settled.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub settled_at: Option<DateTime<Utc>>,
    /// Who settled it.
    #[diesel(sql_type = Nullable<Text>)]
    pub settled_by: Option<String>,
    /// Why it was discarded.
    #[diesel(sql_type = Nullable<Text>)]
    pub reason: Option<String>,
    /// When it will be forgotten.
    #[diesel(sql_type = Timestamptz)]
    pub expires_at: DateTime<Utc>,
}

const KEPT: &str = "SELECT id, connector_id, topic_id, topic, partition, record_offset, timestamp_us, key, value, headers, \
     value_schema, key_schema, mended, step, finding, cause, version, state, tries, pace, put_at, settled_at, settled_by, \
     reason, expires_at FROM quarantine";

impl Kept {
    /// The record as it stands in its topic.
    #[must_use]
    pub fn record(&self) -> Record {
        Record {
            key: self.key.clone().map(Bytes::from),
            value: self.value.clone().map(Bytes::from),
            headers: headers_from_json(&self.headers),
            timestamp_us: self.timestamp_us,
            schema: self.value_schema.map(SchemaId),
            key_schema: self.key_schema.map(SchemaId),
        }
    }
}

/// Headers as they are kept: their bytes in base64.
fn headers_to_json(headers: &[Header]) -> serde_json::Value {
    use base64::Engine as _;
    let encode = |h: &Header| serde_json::json!([h.name, base64::engine::general_purpose::STANDARD.encode(&h.value)]);
    headers.iter().map(encode).collect()
}

/// Headers as they were kept.
fn headers_from_json(headers: &serde_json::Value) -> Vec<Header> {
    use base64::Engine as _;
    let decode = |pair: &serde_json::Value| {
        let value = base64::engine::general_purpose::STANDARD.decode(pair.get(1)?.as_str()?).ok()?;
        Some(Header { name: pair.get(0)?.as_str()?.to_owned(), value: value.into() })
    };
    headers.as_array().map(|list| list.iter().filter_map(decode).collect()).unwrap_or_default()
}

/// Forgets what was kept as long as it was to be.
pub(crate) async fn expire(database: &Database) -> Result<usize, PortError> {
    let mut connection = database.connection().await?;
    diesel::sql_query("DELETE FROM quarantine WHERE expires_at < clock_timestamp()")
        .execute(&mut connection)
        .await
        .map_err(failed("forgetting records in quarantine"))
}

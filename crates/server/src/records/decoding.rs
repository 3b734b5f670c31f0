//! Records as people read them.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::sync::Arc;

use base64::Engine as _;
use bytes::Bytes;
use gonvel_core::civil::rfc3339;

use gonvel_core::naming::{PartitionId, SchemaId};
use gonvel_core::ports::PortError;
use gonvel_core::record::StoredRecord as Placed;
use gonvel_core::schemas::values::{ValueSchema, shown, shown_exact};
use gonvel_http_api::{Record, RecordHeader};
use serde_json::Value;
use serde_json::value::RawValue;

use crate::state::ServerState;

/// Decodes records by the schemas it has learnt.
#[derive(Debug, Default)]
pub(crate) struct Decoder {
    schemas: HashMap<SchemaId, Option<Arc<ValueSchema>>>,
    /// Whether the bytes are given as well.
    raw: bool,
}

fn base64(bytes: &[u8]) -> String {
    base64::engine::general_purpose::STANDARD.encode(bytes)
}

impl Decoder {
    pub(crate) fn new(raw: bool) -> Self {
        Self { raw, ..Self::default() }
    }

    /// Learns the schemas that a record was written by.
    pub(crate) async fn learn(&mut self, state: &ServerState, placed: &Placed) -> Result<(), PortError> {
        for id in [placed.record.schema, placed.record.key_schema].into_iter().flatten() {
            if let Entry::Vacant(place) = self.schemas.entry(id) {
                place.insert(state.schema(id).await?);
            }
        }
        Ok(())
    }

    /// As [`Self::learn`], of many.
    pub(crate) async fn learn_all(&mut self, state: &ServerState, records: &[Placed]) -> Result<(), PortError> {
        for placed in records {
            self.learn(state, placed).await?;
        }
        Ok(())
    }

    /// Bytes as JSON: by their schema, else as the JSON or the text they are, else in hexadecimal digits.
    pub(crate) fn json(&self, bytes: Option<&Bytes>, schema: Option<SchemaId>) -> Value {
        bytes.map_or(Value::Null, |bytes| shown(self.schema(schema), bytes))
    }

    /// The same with all digits of numbers, for conditions: those that a double cannot hold are texts.
    pub(crate) fn exact(&self, bytes: Option<&Bytes>, schema: Option<SchemaId>) -> Value {
        bytes.map_or(Value::Null, |bytes| shown_exact(self.schema(schema), bytes))
    }

    fn schema(&self, id: Option<SchemaId>) -> Option<&ValueSchema> {
        self.schemas.get(&id?)?.as_deref()
    }

    /// The same as the text of JSON, on one line, in which numbers have the digits that they were written with.
    pub(crate) fn text(&self, bytes: Option<&Bytes>, schema: Option<SchemaId>) -> Box<RawValue> {
        let Some(bytes) = bytes else { return RawValue::NULL.to_owned() };
        let by_schema = self.schema(schema).and_then(|schema| schema.show_text(bytes));
        let own = || std::str::from_utf8(bytes).ok().filter(|text| serde_json::from_str::<&RawValue>(text).is_ok());
        let text = by_schema.or_else(|| own().map(|text| text.trim().to_owned()));
        // a line break in JSON stands between its parts: in a text it is written otherwise
        let text = text.map(|text| text.replace(['\n', '\r'], " "));
        let raw = text.and_then(|text| RawValue::from_string(text).ok());
        raw.or_else(|| serde_json::value::to_raw_value(&self.json(Some(bytes), schema)).ok())
            .unwrap_or_else(|| RawValue::NULL.to_owned())
    }

    /// The headers as an object; of headers with one name the last counts.
    pub(crate) fn headers(placed: &Placed) -> Value {
        let text = |value: &Bytes| Value::from(String::from_utf8_lossy(value).into_owned());
        placed.record.headers.iter().map(|h| (h.name.clone(), text(&h.value))).collect::<serde_json::Map<_, _>>().into()
    }

    pub(crate) fn present(&self, partition: PartitionId, placed: &Placed) -> Record {
        let record = &placed.record;
        let part = |part: &Option<Bytes>| part.as_ref().filter(|_| self.raw).map(|b| base64(b));
        let headers = record.headers.iter().map(|h| RecordHeader {
            name: h.name.clone(),
            value: String::from_utf8_lossy(&h.value).into_owned(),
            value_base64: self.raw.then(|| base64(&h.value)),
        });
        Record {
            partition: partition.0,
            offset: placed.offset.0,
            timestamp: rfc3339(record.timestamp_us),
            headers: headers.collect(),
            schema: record.schema.map(|s| s.0),
            key_schema: record.key_schema.map(|s| s.0),
            bytes: record.key.as_ref().map_or(0, Bytes::len) + record.value.as_ref().map_or(0, Bytes::len),
            key: self.text(record.key.as_ref(), record.key_schema),
            value: self.text(record.value.as_ref(), record.schema),
            key_base64: part(&record.key),
            value_base64: part(&record.value),
        }
    }
}

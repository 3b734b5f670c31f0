//! A row of a sample, and the record it would become.

use gonvel_core::avro::schema::Schema;
use gonvel_core::avro::{binary, json, single_object};
use gonvel_core::change::ChangeBatch;
use gonvel_core::connector::Encoding;
use gonvel_core::ports::systems::SampledRow;
use gonvel_core::record_form::RecordForm;
use serde_json::Value as Json;

/// A row of a batch with its record; `cells` are all its columns as the system writes them.
pub(crate) fn as_record(
    form: &RecordForm,
    batch: &ChangeBatch,
    row: usize,
    (cells, encoding): (Vec<Option<String>>, Encoding),
) -> SampledRow {
    let (mut key, mut value) = (Vec::new(), Vec::new());
    form.write_key(&batch.new, row, &mut key);
    form.write_value(batch, row, &mut value);
    let shown = |text: &str, bytes: &[u8]| match encoding {
        Encoding::Json => serde_json::from_slice(bytes).unwrap_or(Json::Null),
        Encoding::Avro => {
            let data = single_object::split(bytes).map(|(_, data)| data).unwrap_or_default();
            let schema = Schema::parse(text).ok();
            schema.and_then(|s| json::read(&s, &mut binary::Reader::new(data)).ok()).unwrap_or(Json::Null)
        }
    };
    SampledRow {
        cells,
        key: shown(form.key_text(), &key),
        value: shown(form.value_text(), &value),
        bytes: key.len() + value.len(),
    }
}
